"""Where a band that moves begins to: its threshold, by the levels that a strip's own hits have in it."""

from collections.abc import Sequence

import numpy as np
from scipy.signal import lfilter

from arkund.core.tools.tone import Band, swaying
from arkund.core.units import gain_to_db

WITHIN_S = 0.15  # of a hit: the highest level counts


def level_in_band_db(band: Band, x: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the level that a moving band hears in a signal [shape=(samples,)] at every sample, in dB."""
    mine = swaying(band, sample_rate_hz)
    a0 = 1.0 + mine.k * mine.g + mine.g * mine.g
    poles = [1.0, 2.0 * (mine.g * mine.g - 1.0) / a0, (1.0 - mine.k * mine.g + mine.g * mine.g) / a0]
    inside = lfilter(np.array([mine.g, 0.0, -mine.g]) / a0, poles, x)
    below = lfilter(np.array([1.0, 2.0, 1.0]) * mine.g * mine.g / a0, poles, x)
    of_input, of_band, of_below = mine.with_gain
    across = mine.k * below if band.kind == "bell" else 0.0
    return gain_to_db(np.hypot(of_input * x + of_band * inside + of_below * below, across) + 1e-9)


def threshold_db(band: Band, windows: Sequence[np.ndarray], begin: int, sample_rate_hz: int) -> float | None:
    """Return the threshold at which a band has moved all of its range at the usual hit, None without hits.

    windows : each a hit [shape=(samples,)] that begins at sample ``begin``
    """
    if not windows:
        return None
    last = begin + round(WITHIN_S * sample_rate_hz)
    levels = [level_in_band_db(band, x, sample_rate_hz)[begin:last].max() for x in windows]
    allowed = Band.ranges()["threshold_db"]
    return round(float(np.clip(np.median(levels) - abs(band.range_db), allowed.low, allowed.high)), 1)
