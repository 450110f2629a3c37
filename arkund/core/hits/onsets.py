"""Candidates: every place in a close mic where something may begin. Most are bleed; the judge decides."""

from collections.abc import Sequence

import numpy as np
from scipy.ndimage import correlate1d, maximum_filter1d

from arkund.core.dsp import _metering
from arkund.core.hits import _kernels
from arkund.core.hits.bands import QUARTERS
from arkund.core.units import db_to_power

LOOK_BACK = (22, 14, 10, 8, 8, 8)  # frames before an onset that it must stand above, by band: a period and more
LOOK_AHEAD = 4  # frames over which the rise is taken
QUICK_BACK, QUICK_AHEAD = 10, 5  # quarters, for the wide bands
DEEP_DB = 46.0  # what lies further below a band's loudest is not looked at
MOST_RISE_DB = 15.0  # one band counts no more than this
FLOOR_ABOVE_NOISE_DB = 6.0
ABOVE_NOISE, DEEP = float(db_to_power(FLOOR_ABOVE_NOISE_DB)), float(db_to_power(-DEEP_DB))
APART = 3  # frames between two candidates of one mic
SOFT_FRAMES = 4  # over which a soft stroke's step is averaged, before and after it


def levels_db(power: np.ndarray) -> np.ndarray:
    """Return powers [shape=(frames, mics, bands)] in dB, floored a little above each band's own noise."""
    quiet = _quantile(power[:: max(power.shape[0] // 4000, 1)], 0.1)
    loud = _quantile(power[:: max(power.shape[0] // 20000, 1)], 0.999)
    floor = np.maximum(quiet * ABOVE_NOISE, loud * DEEP) + 1e-11
    return _decibels(power, floor)


def quick_levels_db(quick: np.ndarray) -> np.ndarray:
    """Return the powers of the wide bands [shape=(quarters, mics, 2)] in dB, floored like the bands."""
    quiet = _quantile(quick[:: max(quick.shape[0] // 4000, 1)], 0.1)
    return _decibels(quick, quiet * ABOVE_NOISE + 1e-11)


def _quantile(rows: np.ndarray, share: float) -> np.ndarray:
    """Return a quantile over the first axis; with the values of a column side by side it takes a third of the time."""
    columns = np.ascontiguousarray(rows.reshape(rows.shape[0], -1).T)
    return np.quantile(columns, share, axis=1).reshape(rows.shape[1:])


def _decibels(power: np.ndarray, floor: np.ndarray) -> np.ndarray:
    out = np.empty(power.shape, np.float32)
    flat = np.asarray(floor, np.float32).reshape(-1)
    _metering.decibels(np.ascontiguousarray(power).reshape(-1), flat, out.reshape(-1))
    return out


def candidates(
    level: np.ndarray, quick: np.ndarray, mics: Sequence[int], rise_db: float, quick_db: float
) -> np.ndarray:
    """Return the frames where any of these mics rises.

    level : dB [shape=(frames, mics, bands)], quick : dB [shape=(frames * QUARTERS, mics, 2)]; rise_db is asked of the bands together,
    quick_db of one of the wide bands alone.
    """
    slow = peaks(band_rise_db(level, mics), rise_db, APART)
    fast = peaks(quick_rise_db(quick, mics), quick_db, APART * QUARTERS)
    return np.unique(np.concatenate([slow, fast // QUARTERS]))


def with_soft_ones(found: np.ndarray, level: np.ndarray, mic: int, rise_db: float) -> np.ndarray:
    """Return these frames and, away from them, those where a mic's brightest bands step up by rise_db from one SOFT_FRAMES to the next."""
    bright = level[:, mic, -2:].mean(axis=1)
    step = correlate1d(bright, np.repeat([-1.0, 1.0], SOFT_FRAMES) / SOFT_FRAMES, mode="nearest")
    soft = peaks(step, rise_db, APART)
    taken = np.zeros(level.shape[0] + APART, bool)
    for shift in range(1 - APART, APART):
        taken[np.maximum(found + shift, 0)] = True
    return np.union1d(found, soft[~taken[soft]])


def band_rise_db(level: np.ndarray, mics: Sequence[int]) -> np.ndarray:
    """Return how far the three bands that rise most do so at each frame; a drum needs only some of the bands."""
    out = np.zeros(level.shape[0], np.float32)
    back = np.array(LOOK_BACK, np.int64)
    _kernels.band_rises(level, np.array(mics, np.int64), back, LOOK_AHEAD, np.float32(MOST_RISE_DB), out)
    return out


def quick_rise_db(quick: np.ndarray, mics: Sequence[int]) -> np.ndarray:
    """Return how far either wide band rises at each quarter, over all given mics."""
    out = np.zeros(quick.shape[0], np.float32)
    _kernels.quick_rises(quick, np.array(mics, np.int64), QUICK_BACK, QUICK_AHEAD, out)
    return out


def peaks(rise: np.ndarray, least_db: float, apart: int) -> np.ndarray:
    """Return the frames of local maxima of at least least_db that are the largest within +-apart frames."""
    largest = maximum_filter1d(rise, 2 * apart + 1, mode="nearest")
    found = np.flatnonzero((rise >= largest) & (rise >= least_db))
    if found.size == 0:
        return found
    return found[np.concatenate([[True], np.diff(found) > apart])]
