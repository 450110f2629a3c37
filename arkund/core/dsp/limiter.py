"""A true-peak limiter: the gain falls before the peak, so nothing is clipped."""

import numpy as np
from scipy.ndimage import minimum_filter1d, uniform_filter1d

from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import coefficient, settle_samples
from arkund.core.dsp.loudness import TAPS_PER_PHASE, oversampled_peak
from arkund.core.units import db_to_gain, ms_to_samples

AHEAD_MS = 1.5  # the gain has this long to fall
MARGIN_DB = 0.03  # a moving gain raises peaks between samples by a hair


def limit(audio: np.ndarray, ceiling_db: float, release_ms: float, sample_rate_hz: int) -> np.ndarray:
    """Return stereo audio [float32, shape=(samples, channels)] whose true peak stays at or below ceiling_db.

    The wanted gain is the minimum over the look-ahead, recovers with release_ms, and is averaged over the look-ahead, so that
    it has fully fallen when the peak arrives. Both channels share it.
    """
    ceiling = db_to_gain(ceiling_db - MARGIN_DB)
    peak = oversampled_peak(audio, 0.5 * ceiling)
    wanted = np.minimum(1.0, ceiling / np.maximum(peak, 1e-9)).astype(np.float32)
    if wanted.min() >= 1.0:
        return audio.copy()
    ahead = _ahead(sample_rate_hz)
    held = minimum_filter1d(wanted, 2 * ahead + 1, mode="nearest")
    smooth = np.empty_like(held)
    release = np.float32(coefficient(release_ms, sample_rate_hz))
    _kernels.release_floor(held, smooth, release, np.float32(held[0]))
    gain = uniform_filter1d(smooth, 2 * ahead + 1, mode="nearest")
    return audio * gain[:, None]


def reach(release_ms: float, sample_rate_hz: int) -> tuple[int, int]:
    """Return how many samples before and after a span the limiter must see."""
    near = 2 * _ahead(sample_rate_hz) + TAPS_PER_PHASE
    return settle_samples(release_ms, sample_rate_hz) + near, near


def _ahead(sample_rate_hz: int) -> int:
    return round(ms_to_samples(AHEAD_MS, sample_rate_hz))
