"""The exact moment of a hit: the first sample where its own direct sound exceeds a tenth of its peak.

Where the mic was quiet before, that sample is looked up. Where another drum still sounds, a tenth of the peak says nothing; there the
onset is where the differenced signal splits best into a soft and a loud part.

References
    N. Maeda, A method for reading and checking phase times in auto-processing system of seismic wave data (1985): the split by
    Akaike's information criterion, k log var(x[:k]) + (n - k) log var(x[k:]).
"""

from dataclasses import dataclass

import numpy as np

from arkund.core.hits import _kernels
from arkund.core.units import gain_to_db

ONSET_SHARE = 0.1
EARLIEST_MS, LATEST_MS = -0.2, 2.0  # of the first sample against the candidate's frame
REST_MS, PEAK_MS = 4.0, 8.0  # before and after it: the sound it rises from, and its peak
# From and to where the signal is split, and where between: not before the rest begins.
SPLIT_MS = (-3.5, 3.0, -0.6, 2.4)


@dataclass(frozen=True, slots=True)
class FoundHit:
    """One hit as measured: its first sample, its peak in its own mic, and how sure it is (0..1)."""

    time_s: float
    level_db: float
    sure: float


def refine(reader, frames: np.ndarray, sure: np.ndarray, sample_rate_hz: int, differences: int) -> list[FoundHit]:
    """Return the hits at these milliseconds with their first sample and peak in the piece's own mic, by time.

    differences : how often the signal is differenced before it is split; the brighter the stroke, the more
    """
    out = []
    for frame, certainty in zip(frames, sure, strict=True):
        near = round(int(frame) * sample_rate_hz / 1000)
        sample, peak = first_sample(reader, near, sample_rate_hz, differences)
        out.append(FoundHit(sample / sample_rate_hz, float(gain_to_db(peak)), float(certainty)))
    return sorted(out, key=lambda hit: hit.time_s)


def first_sample(reader, near: int, sample_rate_hz: int, differences: int = 1) -> tuple[int, float]:
    """Return the sample at which the stroke near a sample begins, and its peak (linear)."""
    earliest, latest, rest, after = (
        int(ms * sample_rate_hz / 1000) for ms in (-EARLIEST_MS, LATEST_MS, REST_MS, PEAK_MS)
    )
    start = near - earliest - rest
    part = reader.read(start, near + after)
    split = [near - start + int(ms * sample_rate_hz / 1000) for ms in SPLIT_MS]
    at, peak = _kernels.first_sample(part, rest, earliest + latest, ONSET_SHARE, *split, differences)
    return start + at, peak
