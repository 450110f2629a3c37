"""What cleaning did to a mic, measured on what comes out: how far the bleed went down, whether every own hit is still there, and whole."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.crossfade import correlation
from arkund.core.units import gain_to_db

HIT_S = (0.001, 0.03)  # before and after a hit, in which its peak lies
ATTACK_S = 0.005
RING_S = 0.8  # after an own hit, others' are heard through its ring
KEPT_DB = 0.5  # a hit that lost no more is kept


@dataclass(frozen=True, slots=True)
class Outcome:
    """Own hits and others' hits, after against before.

    bleed_db : by how much others' hits went down against own ones, usually; None where there are none; own, kept, ghosts, ghosts_kept : how many; peak_db : the
    largest change of a kept hit's peak; alike : the least correlation of the first 5 ms of a kept hit; open_share : of the time in which nothing is turned down
    """

    bleed_db: float | None
    own: int
    kept: int
    ghosts: int
    ghosts_kept: int
    peak_db: float
    alike: float
    open_share: float


def outcome(
    before: np.ndarray, after: np.ndarray, own: Sequence, others: Mapping[str, Sequence], sample_rate_hz: int
) -> Outcome:
    """Compare a mic before and after cleaning, float32 [each shape=(samples,)]; own, others : hits (.time_s, .ghost), in their time."""
    rate = sample_rate_hz
    times = np.array(sorted(h.time_s for h in own))
    changes = peak_changes_db(before, after, own, rate)
    kept = [change >= -KEPT_DB for change in changes]
    elsewhere = [
        h.time_s
        for mine in others.values()
        for h in mine
        if not np.any((h.time_s - times > -HIT_S[1]) & (h.time_s - times < RING_S))
    ]
    lower = [_peak_db(after, t, rate) - _peak_db(before, t, rate) for t in elsewhere]
    bleed = float(np.median(lower) - (np.median(changes) if changes else 0.0)) if lower else None
    whole = [h for h, k in zip(own, kept, strict=True) if k]
    loud = np.abs(before) > 1e-6
    return Outcome(
        bleed_db=None if bleed is None else round(bleed, 1),
        own=len(kept),
        kept=sum(kept),
        ghosts=sum(h.ghost for h in own),
        ghosts_kept=sum(h.ghost for h in whole),
        peak_db=round(max((abs(c) for c, k in zip(changes, kept, strict=True) if k), default=0.0), 2),
        alike=min((_alike(before, after, h.time_s, rate) for h in whole), default=1.0),
        open_share=round(float(np.mean(np.abs(after[loud]) > 0.7 * np.abs(before[loud]))) if loud.any() else 0.0, 3),
    )


def peak_changes_db(before: np.ndarray, after: np.ndarray, hits: Sequence, sample_rate_hz: int) -> list[float]:
    """Return by how much the peak of each hit changed, in dB."""
    return [_peak_db(after, h.time_s, sample_rate_hz) - _peak_db(before, h.time_s, sample_rate_hz) for h in hits]


def _peak_db(x: np.ndarray, time_s: float, rate: int) -> float:
    part = x[max(int((time_s - HIT_S[0]) * rate), 0) : max(int((time_s + HIT_S[1]) * rate), 0)]
    return float(gain_to_db(np.max(np.abs(part), initial=0.0)))


def _alike(before: np.ndarray, after: np.ndarray, time_s: float, rate: int) -> float:
    part = slice(max(int(time_s * rate), 0), max(int((time_s + ATTACK_S) * rate), 0))
    return correlation(before[part], after[part]) if before[part].any() else 1.0
