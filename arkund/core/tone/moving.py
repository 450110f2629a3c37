"""Where a band that moves begins to: its threshold, by the levels that a strip's own hits have in it."""

from collections.abc import Sequence

import numpy as np
from scipy.signal import lfilter

from arkund.core.dsp import _metering
from arkund.core.dsp.bank import coefficient
from arkund.core.tools.tone import Band, moved_db, swaying
from arkund.core.units import gain_to_db

WITHIN_S = 0.15  # of a hit
NEARLY = 0.9  # of the range: the last of it takes a threshold far below


def level_in_band_db(band: Band, x: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the level that a moving band hears in a signal [shape=(samples,)] at every sample, in dB."""
    mine = swaying(band, sample_rate_hz)
    a0 = 1.0 + mine.k * mine.g + mine.g * mine.g
    poles = [1.0, 2.0 * (mine.g * mine.g - 1.0) / a0, (1.0 - mine.k * mine.g + mine.g * mine.g) / a0]
    inside = lfilter(np.array([mine.g, 0.0, -mine.g]) / a0, poles, x)
    below = lfilter(np.array([1.0, 2.0, 1.0]) * mine.g * mine.g / a0, poles, x)
    of_input, of_band, of_below = mine.listens
    across = mine.k * below if band.kind == "bell" else 0.0
    return gain_to_db(np.hypot(of_input * x + of_band * inside + of_below * below, across) + 1e-9)


def moved_furthest_db(band: Band, levels_db: Sequence[np.ndarray], threshold_db: float, sample_rate_hz: int) -> float:
    """Return how far a band with a threshold gets at hits of some levels in it, in dB and positive, with its attack and release: the median."""
    attack, release = (np.float32(coefficient(ms, sample_rate_hz)) for ms in (band.attack_ms, band.release_ms))
    furthest = []
    for levels in levels_db:
        wanted = np.abs(moved_db(band.replace(threshold_db=threshold_db), levels)).astype(np.float32)
        moved = np.empty_like(wanted)
        _metering.follow(wanted, moved, attack, release)
        furthest.append(float(moved.max()))
    return float(np.median(furthest))


def threshold_db(band: Band, windows: Sequence[np.ndarray], begin: int, sample_rate_hz: int) -> float | None:
    """Return the threshold at which the usual hit moves a band nearly all of its range, None without hits.

    windows : each a hit [shape=(samples,)] that begins at sample ``begin``
    """
    if not windows:
        return None
    last = begin + round(WITHIN_S * sample_rate_hz)
    levels = [level_in_band_db(band, x, sample_rate_hz)[begin:last] for x in windows]
    allowed = Band.ranges()["threshold_db"]
    low, high = allowed.low, allowed.high
    while high - low > allowed.step / 5:
        middle = 0.5 * (low + high)
        far = moved_furthest_db(band, levels, middle, sample_rate_hz)
        low, high = (middle, high) if far > NEARLY * abs(band.range_db) else (low, middle)
    return round(0.5 * (low + high), 1)
