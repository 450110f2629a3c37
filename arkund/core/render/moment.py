"""One moment in all mics, sample by sample: what a view of a single stroke shows."""

from dataclasses import dataclass

import numpy as np

from arkund.core.plan.plan import Plan
from arkund.core.render.source import Recordings, Sources

AROUND_MS = 15.0  # before and after it
LEAST_PEAK = 1e-6


@dataclass(frozen=True, slots=True)
class Moment:
    """A mic around a sample, as recorded and as edited, both brought to the larger peak of the two: float64 [shape=(2 * half,)]."""

    mic: str
    before: np.ndarray
    after: np.ndarray


def half_samples(sample_rate_hz: int) -> int:
    """Return how many samples are shown to each side."""
    return round(AROUND_MS / 1000 * sample_rate_hz)


def moments(plan: Plan, recordings: Recordings, at: int) -> list[Moment]:
    """Return every mic around a sample of the song."""
    half = half_samples(recordings.sample_rate_hz)
    edited = Sources(plan, recordings)
    plain = Sources(plan.replace(cuts=(), lone_cuts=()), recordings)
    out = []
    for mic in plan.mics:
        before, after = (each.read(mic, at - half, at + half) for each in (plain, edited))
        peak = max(float(np.abs(before).max()), float(np.abs(after).max()), LEAST_PEAK)
        out.append(Moment(mic.id, before / peak, after / peak))
    return out
