"""A narrow cut where one points: the peak that is measured there, its height over what is around it, and its width."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter

from arkund.core.tone import peaks
from arkund.core.tools.tone import Band
from arkund.core.units import power_to_db

LENGTH_S = 0.31  # of each stroke
REACH_OCTAVES = 0.12  # to each side of where one points
POINTS_PER_OCTAVE, AROUND_OCTAVES = 96, 1.0
WIDE_OCTAVES = 0.5  # beyond which a peak's width is not followed
SHARE, LEAST_DB, MOST_DB = 0.7, 2.0, 12.0  # of its height that is cut
Q = (1.4, 16.0)
LOWEST_HZ, HIGHEST_HZ = 25.0, 18_000.0


@dataclass(frozen=True, slots=True)
class Peak:
    """A peak of a drum's own spectrum: where, how high over what is around it, and how wide at half of that, in octaves."""

    frequency_hz: float
    above_db: float
    octaves: float


def peak_near(read, starts: list[int], frequency_hz: float, sample_rate_hz: int) -> Peak | None:
    """Return the highest peak near a frequency during a drum's own strokes; None without strokes. read(start, stop) gives its mic."""
    if not starts:
        return None
    rate = sample_rate_hz
    frequencies, found = peaks.power(peaks.windows(read, starts, 0.0, LENGTH_S, rate), rate)
    count = int(np.log2(HIGHEST_HZ / LOWEST_HZ) * POINTS_PER_OCTAVE)
    points = LOWEST_HZ * 2.0 ** (np.arange(count) / POINTS_PER_OCTAVE)
    half = 2.0 ** (0.5 / POINTS_PER_OCTAVE)
    low, high = (np.searchsorted(frequencies, points * factor) for factor in (1.0 / half, half))
    sums = np.concatenate([[0.0], np.cumsum(found)])
    level = power_to_db((sums[np.maximum(high, low + 1)] - sums[low]) / np.maximum(high - low, 1) + 1e-15)
    above = level - median_filter(level, int(2 * AROUND_OCTAVES * POINTS_PER_OCTAVE) + 1, mode="nearest")
    inside = np.flatnonzero(np.abs(np.log2(points / frequency_hz)) <= REACH_OCTAVES)
    if not inside.size:
        return None
    at = int(inside[np.argmax(level[inside])])
    fine = np.flatnonzero((frequencies >= points[at] / half**2) & (frequencies <= points[at] * half**2))
    hz = float(frequencies[fine[np.argmax(found[fine])]]) if fine.size else float(points[at])
    return Peak(round(hz, 1), round(float(above[at]), 1), _width(above, at))


def _width(above: np.ndarray, at: int) -> float:
    """Return how wide a peak is at half of its height, in octaves."""
    most, edge = int(WIDE_OCTAVES * POINTS_PER_OCTAVE), above[at] / 2.0
    left = next((k for k in range(most) if at - k < 0 or above[at - k] < edge), most)
    right = next((k for k in range(most) if at + k >= above.size or above[at + k] < edge), most)
    return (left + right - 1) / POINTS_PER_OCTAVE


def cut(peak: Peak) -> Band:
    """Return the bell that takes most of a peak: as narrow as that is, at least a little even where hardly anything stands out."""
    half = 2.0 ** (max(peak.octaves, 1.0 / POINTS_PER_OCTAVE) / 2.0)
    q = float(np.clip(1.0 / (half - 1.0 / half), *Q))
    gain = -float(np.clip(SHARE * peak.above_db, LEAST_DB, MOST_DB))
    return Band(frequency_hz=peak.frequency_hz, gain_db=round(gain, 1), q=round(q, 2))
