"""The exact moment of a hit: the first sample where its own direct sound exceeds a tenth of its peak."""

from dataclasses import dataclass

import numpy as np

from arkund.core.units import gain_to_db

ONSET_SHARE = 0.1
BEFORE_MS, AFTER_MS = 2.5, 8.0
REST_MS = 4.0


@dataclass(frozen=True, slots=True)
class FoundHit:
    """One hit as measured: its first sample, its peak in its own mic, and how sure it is."""

    time_s: float
    level_db: float
    excess_db: float


def refine(reader, strokes, sample_rate_hz: int, settings):
    """Return FoundHits with the first sample of each stroke in its own mic and its peak level."""
    out = []
    for s in strokes:
        near = round(s.frame * sample_rate_hz / 1000)
        sample, peak = first_sample(reader, near, sample_rate_hz)
        out.append(FoundHit(sample / sample_rate_hz, float(gain_to_db(peak)), s.excess_db))
    out.sort(key=lambda hit: hit.time_s)
    apart = settings.apart_ms / 1000
    return [hit for k, hit in enumerate(out) if k == 0 or hit.time_s - out[k - 1].time_s > 0.5 * apart]


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
