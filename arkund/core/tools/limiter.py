"""A true-peak limiter: the gain falls before the peak, so nothing is clipped."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from arkund.core.dsp import _metering
from arkund.core.dsp.bank import coefficient
from arkund.core.dsp.loudness import BOUND, FINER, TAPS_PER_PHASE, oversampled_peak
from arkund.core.dsp.reach import Reach, of_follower
from arkund.core.settings import number
from arkund.core.tools.tool import Tool, kind
from arkund.core.units import db_to_gain, ms_to_samples

AHEAD_MS = 1.5  # the gain has this long to fall
HALF_FILTER = TAPS_PER_PHASE // 2 + 1
MARGIN_DB = 0.03  # a moving gain raises peaks between samples by a hair


@dataclass(frozen=True, slots=True, kw_only=True)
class Limiter(Tool):
    """A ceiling that no true peak passes, read over the audible band: up to 20 kHz it holds within 0.1 dB."""

    kind: str = kind("limiter")
    input_db: float = number(0.0, -24.0, 24.0, step=0.1, unit="dB", help="raised by this before it is limited")
    ceiling_db: float = number(
        -1.0,
        -24.0,
        0.0,
        step=0.1,
        unit="dBTP",
        help="no true peak above this up to 20 kHz; content above that may exceed it by about 1 dB",
    )
    release_ms: float = number(60.0, 5.0, 500.0, step=1.0, unit="ms")

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the limiter must hear beyond a span."""
        near = 2 * _ahead(sample_rate_hz) + TAPS_PER_PHASE
        return Reach(near, after=lag(sample_rate_hz)) + of_follower(self.release_ms, sample_rate_hz)


SETTINGS = Limiter


def _ahead(sample_rate_hz: int) -> int:
    return round(ms_to_samples(AHEAD_MS, sample_rate_hz))


def lag(sample_rate_hz: int) -> int:
    """Return how many samples a limiter looks ahead."""
    return HALF_FILTER + 2 * _ahead(sample_rate_hz)


class Holding:
    """Keeps the true peak of a strip, that arrives in pieces, at or below a ceiling.

    The wanted reduction is the largest over the look-ahead, is given back with release_ms, and is averaged over the look-ahead, so that
    the gain has fully fallen when the peak arrives. All channels share it.
    """

    def __init__(self, limiter: Limiter, sample_rate_hz: int, channels: int) -> None:
        self._input = np.float32(db_to_gain(limiter.input_db))
        self._ceiling = np.float32(db_to_gain(limiter.ceiling_db - MARGIN_DB))
        self._release = np.float32(coefficient(limiter.release_ms, sample_rate_hz))
        self._ahead, self.lag = _ahead(sample_rate_hz), lag(sample_rate_hz)
        self._audio = np.zeros((self.lag + HALF_FILTER, channels), np.float32)
        self._wanted = np.zeros(2 * self._ahead, np.float32)
        self._smooth = np.zeros(2 * self._ahead, np.float32)

    def push(self, audio: np.ndarray) -> np.ndarray:
        """Take audio [float32, shape=(samples, channels)] and return as many samples, which are those of ``lag`` before."""
        n = audio.shape[0]
        known = np.concatenate([self._audio, audio * self._input if self._input != 1.0 else audio])
        peak = oversampled_peak(known[self.lag - HALF_FILTER :], self._ceiling / BOUND, self._ceiling / FINER)
        peak = peak[HALF_FILTER : HALF_FILTER + n]
        excess = np.maximum(np.float32(1.0) - self._ceiling / np.maximum(peak, np.float32(1e-9)), np.float32(0.0))
        wanted = np.concatenate([self._wanted, excess])
        out = known[HALF_FILTER : HALF_FILTER + n] * self._gain(wanted, n)[:, None]
        self._audio, self._wanted = known[n:].copy(), wanted[n:].copy()
        return out

    def _gain(self, wanted: np.ndarray, n: int) -> np.ndarray:
        """Return the gain for the next samples. It is worked out as 1 - gain, because float32 is fine near 0 and stands still near 1."""
        ahead = self._ahead
        if not wanted.any() and not self._smooth.any():
            return np.ones(n, np.float32)
        held = maximum_filter1d(wanted, 2 * ahead + 1)[ahead : ahead + n]
        fresh = np.empty_like(held)
        _metering.hold_back(held, fresh, self._release, self._smooth[-1])
        smooth = np.concatenate([self._smooth, fresh])
        self._smooth = smooth[n:].copy()
        return np.float32(1.0) - uniform_filter1d(smooth, 2 * ahead + 1)[ahead : ahead + n]


class Run:
    """Limiters of a bank's lanes that keep their state from block to block; lanes without one pass unchanged."""

    def __init__(self, tools: Sequence[Limiter | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        channels = 2 if linked else 1
        self._mine = [
            (lane, Holding(each, sample_rate_hz, channels))
            for lane, each in list(enumerate(tools))[::channels]
            if each is not None
        ]
        self._channels, self._begun = channels, False
        self.ahead = lag(sample_rate_hz) if self._mine else 0

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Limit the first ``count`` rows of a bank [float32, shape=(samples, width)] in place; ``ahead`` rows behind them are looked at."""
        for lane, holding in self._mine:
            mine = bank[:, lane : lane + self._channels]
            made = holding.push(mine[self.ahead if self._begun else 0 : count + self.ahead])
            mine[:count] = made[-count:] if count else made[:0]
        self._begun = True


def limit(audio: np.ndarray, limiter: Limiter, sample_rate_hz: int) -> np.ndarray:
    """Return audio [float32, shape=(samples, channels)] whose true peak stays at or below the ceiling, silence following."""
    holding = Holding(limiter, sample_rate_hz, audio.shape[1])
    rest = np.zeros((holding.lag, audio.shape[1]), np.float32)
    return np.concatenate([holding.push(audio), holding.push(rest)])[holding.lag :]


def transfer_db(limiter: Limiter, level_db: np.ndarray) -> np.ndarray:
    """Return the true peak that leaves it of one that comes in, in dB."""
    return np.minimum(level_db + limiter.input_db, limiter.ceiling_db)


def oracle(x: np.ndarray, limiter: Limiter, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] below the ceiling, sample by sample in double precision: the largest wanted reduction of what lies within the
    look-ahead on both sides, given back exponentially, averaged over the look-ahead.
    """
    x, ahead = np.asarray(x, float) * float(db_to_gain(limiter.input_db)), _ahead(sample_rate_hz)
    ceiling = float(db_to_gain(limiter.ceiling_db - MARGIN_DB))
    k = coefficient(limiter.release_ms, sample_rate_hz)
    peak = oversampled_peak(np.concatenate([x, np.zeros(3 * ahead)]).astype(np.float32)[:, None]).astype(float)
    wanted = np.concatenate([np.zeros(2 * ahead), np.maximum(1.0 - ceiling / np.maximum(peak, 1e-9), 0.0)])
    now, smooth = 0.0, []
    for i in range(ahead, ahead + x.size + 2 * ahead):
        target = max(wanted[max(i - ahead, 0) : i + ahead + 1])
        now = target if target > now else target + (now - target) * k
        smooth.append(now)
    total = np.convolve(smooth, np.full(2 * ahead + 1, 1.0 / (2 * ahead + 1)), "valid")
    return x * (1.0 - total[: x.size])
