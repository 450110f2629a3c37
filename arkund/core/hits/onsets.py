"""Candidates: every place in a close mic where something may begin. Most are bleed; the judge decides."""

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from arkund.core.hits.bands import QUARTERS
from arkund.core.units import power_to_db

LOOK_BACK = (22, 14, 10, 8, 8, 8)  # frames before an onset that it must stand above, by band: a period and more
LOOK_AHEAD = 4  # frames over which the rise is taken
QUICK_BACK, QUICK_AHEAD = 10, 5  # quarters, for the wide bands
DEEP_DB = 46.0  # what lies further below a band's loudest is not looked at
MOST_RISE_DB = 15.0  # one band counts no more than this
FLOOR_ABOVE_NOISE_DB = 6.0
APART = 3  # frames between two candidates of one mic


def levels_db(power: np.ndarray) -> np.ndarray:
    """Return powers [shape=(frames, mics, bands)] in dB, floored a little above each band's own noise."""
    quiet = np.quantile(power[:: max(power.shape[0] // 4000, 1)], 0.1, axis=0)
    loud = np.quantile(power[:: max(power.shape[0] // 20000, 1)], 0.999, axis=0)
    floor = np.maximum(quiet * 10 ** (FLOOR_ABOVE_NOISE_DB / 10), loud * 10 ** (-DEEP_DB / 10)) + 1e-11
    return power_to_db(power + floor).astype(np.float32)


def quick_levels_db(quick: np.ndarray) -> np.ndarray:
    """Return the powers of the wide bands [shape=(quarters, mics, 2)] in dB, floored like the bands."""
    quiet = np.quantile(quick[:: max(quick.shape[0] // 4000, 1)], 0.1, axis=0)
    return power_to_db(quick + quiet * 10 ** (FLOOR_ABOVE_NOISE_DB / 10) + 1e-11).astype(np.float32)


def candidates(level: np.ndarray, quick: np.ndarray, rise_db: float, quick_db: float) -> np.ndarray:
    """Return the frames where a piece's mics rise.

    level : dB [shape=(frames, mics, bands)], quick : dB [shape=(frames * QUARTERS, mics, 2)], of the piece's own mics;
    rise_db is asked of the bands together, quick_db of one of the wide bands alone.
    """
    mics = range(level.shape[1])
    slow = peaks(np.max([band_rise_db(level[:, m]) for m in mics], axis=0), rise_db, APART)
    fast = peaks(np.max([quick_rise_db(quick[:, m]) for m in mics], axis=0), quick_db, APART * QUARTERS)
    return np.unique(np.concatenate([slow, fast // QUARTERS]))


def band_rise_db(level: np.ndarray) -> np.ndarray:
    """Return how far the three bands that rise most do so at each frame [level: shape=(frames, bands), dB]."""
    ahead = uniform_filter1d(level, LOOK_AHEAD, axis=0, origin=-(LOOK_AHEAD // 2), mode="nearest")
    before = np.empty_like(level)
    for band, back in enumerate(LOOK_BACK):
        before[:, band] = _most_before(level[:, band], back)
    rise = np.clip(ahead - before, 0.0, MOST_RISE_DB)
    return np.sort(rise, axis=1)[:, -3:].mean(axis=1)  # a drum needs only some of the bands


def quick_rise_db(quick: np.ndarray) -> np.ndarray:
    """Return how far either wide band rises at each quarter [quick: shape=(quarters, 2), dB]."""
    ahead = maximum_filter1d(quick, QUICK_AHEAD, axis=0, origin=-(QUICK_AHEAD // 2), mode="nearest")
    return (ahead - _most_before(quick, QUICK_BACK)).max(axis=1)


def _most_before(level: np.ndarray, back: int) -> np.ndarray:
    """Return the largest of the ``back`` values before each."""
    most = maximum_filter1d(level, back, axis=0, origin=back - back // 2 - 1, mode="nearest")
    return np.concatenate([most[:1], most[:-1]])


def peaks(rise: np.ndarray, least_db: float, apart: int) -> np.ndarray:
    """Return the frames of local maxima of at least least_db that are the largest within +-apart frames."""
    largest = maximum_filter1d(rise, 2 * apart + 1, mode="nearest")
    found = np.flatnonzero((rise >= largest) & (rise >= least_db))
    if found.size == 0:
        return found
    return found[np.concatenate([[True], np.diff(found) > apart])]
