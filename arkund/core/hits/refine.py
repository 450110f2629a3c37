"""The exact moment of a hit: the first sample where its own direct sound exceeds a tenth of its peak."""

from dataclasses import dataclass

import numpy as np

from arkund.core.units import gain_to_db

ONSET_SHARE = 0.1
BEFORE_MS, AFTER_MS = 2.5, 8.0
REST_MS = 4.0


@dataclass(frozen=True, slots=True)
class FoundHit:
    """One hit as measured: its first sample, its peak in its own mic, and how sure it is (0..1)."""

    time_s: float
    level_db: float
    sure: float


def refine(reader, frames: np.ndarray, sure: np.ndarray, sample_rate_hz: int) -> list[FoundHit]:
    """Return the hits at these milliseconds with their first sample and peak in the piece's own mic, by time."""
    out = []
    for frame, certainty in zip(frames, sure, strict=True):
        sample, peak = first_sample(reader, round(int(frame) * sample_rate_hz / 1000), sample_rate_hz)
        out.append(FoundHit(sample / sample_rate_hz, float(gain_to_db(peak)), float(certainty)))
    return sorted(out, key=lambda hit: hit.time_s)


def first_sample(reader, near: int, sample_rate_hz: int) -> tuple[int, float]:
    """Return the sample at which the stroke near a sample begins, and its peak (linear)."""
    before, after = (int(ms * sample_rate_hz / 1000) for ms in (BEFORE_MS, AFTER_MS))
    rest = int(REST_MS * sample_rate_hz / 1000)
    part = reader.read(near - before - rest, near + after)
    size = np.abs(part - np.mean(part[:rest]))
    peak = float(size[rest:].max())
    quiet = float(size[:rest].max())
    over = np.flatnonzero(size[rest:] > max(ONSET_SHARE * peak, min(1.2 * quiet, 0.7 * peak)))
    return near - before + (int(over[0]) if over.size else before), peak
