"""A true-peak limiter: the gain falls before the peak, so nothing is clipped."""

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import coefficient
from arkund.core.dsp.loudness import FINER, TAPS_PER_PHASE, oversampled_peak
from arkund.core.dsp.reach import Reach, of_follower
from arkund.core.units import db_to_gain, ms_to_samples

AHEAD_MS = 1.5  # the gain has this long to fall
HALF_FILTER = TAPS_PER_PHASE // 2 + 1
MARGIN_DB = 0.03  # a moving gain raises peaks between samples by a hair


class Limiter:
    """Keeps the true peak of stereo audio, that arrives in pieces, at or below a ceiling.

    The wanted reduction is the largest over the look-ahead, is given back with release_ms, and is averaged over the look-ahead, so that
    the gain has fully fallen when the peak arrives. Both channels share it.
    """

    def __init__(self, ceiling_db: float, release_ms: float, sample_rate_hz: int) -> None:
        self._ceiling = np.float32(db_to_gain(ceiling_db - MARGIN_DB))
        self._release = np.float32(coefficient(release_ms, sample_rate_hz))
        self._ahead = _ahead(sample_rate_hz)
        self.lag = HALF_FILTER + 2 * self._ahead  # samples by which what comes out is behind what went in
        self._audio = np.zeros((self.lag + HALF_FILTER, 2), np.float32)
        self._wanted = np.zeros(2 * self._ahead, np.float32)
        self._smooth = np.zeros(2 * self._ahead, np.float32)
        self._early = self.lag  # samples before the first that are still to be dropped

    def push(self, audio: np.ndarray) -> np.ndarray:
        """Take audio [float32, shape=(samples, 2)] and return what is ready."""
        n = audio.shape[0]
        known = np.concatenate([self._audio, audio])
        peak = oversampled_peak(known[self.lag - HALF_FILTER :], 0.5 * self._ceiling, self._ceiling / FINER)
        peak = peak[HALF_FILTER : HALF_FILTER + n]
        excess = np.maximum(np.float32(1.0) - self._ceiling / np.maximum(peak, np.float32(1e-9)), np.float32(0.0))
        wanted = np.concatenate([self._wanted, excess])
        out = known[HALF_FILTER : HALF_FILTER + n] * self._gain(wanted, n)[:, None]
        self._audio, self._wanted = known[n:].copy(), wanted[n:].copy()
        early, self._early = self._early, max(self._early - n, 0)
        return out[min(early, n) :]

    def _gain(self, wanted: np.ndarray, n: int) -> np.ndarray:
        """Return the gain for the next samples. It is worked out as 1 - gain, because float32 is fine near 0 and stands still near 1."""
        ahead = self._ahead
        if not wanted.any() and not self._smooth.any():
            return np.ones(n, np.float32)
        held = maximum_filter1d(wanted, 2 * ahead + 1)[ahead : ahead + n]
        fresh = np.empty_like(held)
        _kernels.hold_back(held, fresh, self._release, self._smooth[-1])
        smooth = np.concatenate([self._smooth, fresh])
        self._smooth = smooth[n:].copy()
        return np.float32(1.0) - uniform_filter1d(smooth, 2 * ahead + 1)[ahead : ahead + n]

    def finish(self) -> np.ndarray:
        """Return the rest, as if silence followed."""
        return self.push(np.zeros((self.lag, 2), np.float32))


def limit(audio: np.ndarray, ceiling_db: float, release_ms: float, sample_rate_hz: int) -> np.ndarray:
    """Return stereo audio [float32, shape=(samples, 2)] whose true peak stays at or below ceiling_db."""
    limiter = Limiter(ceiling_db, release_ms, sample_rate_hz)
    return np.concatenate([limiter.push(audio), limiter.finish()])


def reach(release_ms: float, sample_rate_hz: int) -> Reach:
    """Return what the limiter must hear beyond a span."""
    near = 2 * _ahead(sample_rate_hz) + TAPS_PER_PHASE
    return Reach(near, after=near) + of_follower(release_ms, sample_rate_hz)


def _ahead(sample_rate_hz: int) -> int:
    return round(ms_to_samples(AHEAD_MS, sample_rate_hz))
