"""Candidates: places where a mic's bands rise together, and which mic heard them first."""

import numpy as np
from scipy.ndimage import maximum_filter1d, uniform_filter1d

from arkund.core.hits.bands import QUARTERS
from arkund.core.units import power_to_db

LOOK_BACK = (
    22,
    14,
    10,
    8,
    8,
    8,
)  # frames before an onset that it must stand above, by band: a period and more
LOOK_AHEAD = 4  # frames over which the rise is taken
DEEP_DB = 46.0  # what lies further below a band's loudest is not looked at
MOST_RISE_DB = 15.0  # one band counts no more than this
FLOOR_ABOVE_NOISE_DB = 6.0
FIRST_SHARE = 0.04  # of a stroke's peak energy: where its arrival is taken (14 dB below the peak)


def levels_db(energy: np.ndarray) -> np.ndarray:
    """Return energies [shape=(frames, mics, bands)] in dB, floored a little above each band's own noise."""
    quiet = np.quantile(energy[:: max(energy.shape[0] // 4000, 1)], 0.1, axis=0)
    loud = np.quantile(energy[:: max(energy.shape[0] // 20000, 1)], 0.999, axis=0)
    floor = np.maximum(quiet * 10 ** (FLOOR_ABOVE_NOISE_DB / 10), loud * 10 ** (-DEEP_DB / 10)) + 1e-11
    return power_to_db(energy + floor).astype(np.float32)


def rise_db(level: np.ndarray) -> np.ndarray:
    """Return how far the mean over the bands rises at each frame [level: shape=(frames, bands), dB]."""
    ahead = uniform_filter1d(level, LOOK_AHEAD, axis=0, origin=-(LOOK_AHEAD // 2), mode="nearest")
    before = np.empty_like(level)
    for band, back in enumerate(LOOK_BACK):
        most = maximum_filter1d(level[:, band], back, origin=back - back // 2 - 1, mode="nearest")
        before[:, band] = np.concatenate([most[:1], most[:-1]])
    rise = np.clip(ahead - before, 0.0, MOST_RISE_DB)
    strongest = np.sort(rise, axis=1)[:, -3:]  # a drum needs only some of the bands
    return strongest.mean(axis=1)


def peaks(rise: np.ndarray, least_db: float, apart: int) -> np.ndarray:
    """Return the frames of local maxima of at least least_db that are the largest within +-apart frames."""
    largest = maximum_filter1d(rise, 2 * apart + 1, mode="nearest")
    found = np.flatnonzero((rise >= largest) & (rise >= least_db))
    if found.size == 0:
        return found
    return found[np.concatenate([[True], np.diff(found) > apart])]


def arrivals_ms(quick: np.ndarray, frame: int, before_ms: int, after_ms: int) -> np.ndarray:
    """Return when each mic's energy first passes FIRST_SHARE of its rise near a frame, in ms; inf where it does not rise.

    quick [shape=(frames * QUARTERS, mics)] as made by ``bands.band_energies``.
    """
    start = max((frame - before_ms) * QUARTERS, 0)
    part = quick[start : (frame + after_ms) * QUARTERS]
    lead = 3 * QUARTERS
    if part.shape[0] <= lead:
        return np.full(quick.shape[1], np.inf)
    rest = part[:lead].max(axis=0)
    peak = part.max(axis=0)
    over = part > rest + FIRST_SHARE * (peak - rest) + 1e-10
    arrived = (np.argmax(over, axis=0) + start) / QUARTERS
    arrived[peak < 4.0 * rest + 1e-9] = np.inf
    return arrived
