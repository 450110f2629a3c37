"""The exact moment of a hit: the first sample where its own direct sound exceeds a tenth of its peak.

Where the mic was quiet before, that sample is looked up. Where another drum still sounds, a tenth of the peak says nothing; there the
onset is where the differenced signal splits best into a soft and a loud part.

References
    N. Maeda, A method for reading and checking phase times in auto-processing system of seismic wave data (1985): the split by
    Akaike's information criterion, k log var(x[:k]) + (n - k) log var(x[k:]).
"""

from dataclasses import dataclass

import numpy as np

from arkund.core.units import gain_to_db

ONSET_SHARE = 0.1
EARLIEST_MS, LATEST_MS = -0.2, 2.0  # of the first sample against the candidate's frame
REST_MS, PEAK_MS = 4.0, 8.0  # before and after it: the sound it rises from, and its peak
SPLIT_FROM_MS, SPLIT_TO_MS = -3.5, 3.0  # what is split
SPLIT_EARLIEST_MS, SPLIT_LATEST_MS = -0.6, 2.4
TINY = 1e-14


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
    part = reader.read(near - earliest - rest, near + after)
    size = np.abs(part - np.mean(part[:rest]))
    peak, quiet = float(size[rest:].max()), float(size[:rest].max())
    if quiet >= ONSET_SHARE * peak:
        return _split(reader, near, sample_rate_hz, differences), peak
    over = np.flatnonzero(size[rest : rest + earliest + latest] > ONSET_SHARE * peak)
    return near + (int(over[0]) - earliest if over.size else latest), peak


def _split(reader, near: int, rate: int, differences: int) -> int:
    start, stop, earliest, latest = (
        int(ms * rate / 1000) for ms in (SPLIT_FROM_MS, SPLIT_TO_MS, SPLIT_EARLIEST_MS, SPLIT_LATEST_MS)
    )
    x = np.diff(reader.read(near + start - differences, near + stop).astype(np.float64), differences)
    energy = np.cumsum(x * x)
    k = np.arange(earliest - start, latest - start)
    before, after = energy[k - 1] / k, (energy[-1] - energy[k - 1]) / (x.size - k)
    cost = k * np.log(before + TINY) + (x.size - k) * np.log(after + TINY)
    return near + start + int(k[np.argmin(cost)])
