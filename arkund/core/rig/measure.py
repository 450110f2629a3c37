"""What a tool does to a strip: how much louder or softer it leaves hits, and what lies between them."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.units import gain_to_db, ms_to_samples

HIT_MS = 60.0  # from a stroke on: its attack and the beginning of its body
CLEAR_MS = 250.0  # after a stroke, that its ring does not count as what lies between
MOST_STROKES = 60
QUIETEST_DB = -100.0  # below, there is nothing to be compared


@dataclass(frozen=True, slots=True)
class Effect:
    """By how much a tool changes the level in dB, at hits and between them; None where nothing sounds.

    strokes : the peaks of some hits in dBFS, before the tool and after it
    """

    hits_db: float | None
    between_db: float | None
    strokes: tuple[tuple[float, float], ...] = ()


def effect(before: np.ndarray, after: np.ndarray, hits: Sequence[int], sample_rate_hz: int) -> Effect:
    """Compare a strip before and after a tool [shape=(samples,) or (samples, channels)]; hits : samples at which its own strokes begin."""
    at_hits = np.zeros(before.shape[0], bool)
    between = np.ones(before.shape[0], bool)
    near, clear = (round(ms_to_samples(ms, sample_rate_hz)) for ms in (HIT_MS, CLEAR_MS))
    for at in hits:
        at_hits[max(at, 0) : max(at + near, 0)] = True
        between[max(at - near, 0) : max(at + clear, 0)] = False
    some = [hits[k] for k in np.linspace(0, len(hits) - 1, min(len(hits), MOST_STROKES)).astype(int)] if hits else []
    peaks = [tuple(_peak_db(x[max(at, 0) : max(at + near, 0)]) for x in (before, after)) for at in some]
    strokes = tuple(both for both in peaks if both[0] > QUIETEST_DB)
    return Effect(_change_db(before[at_hits], after[at_hits]), _change_db(before[between], after[between]), strokes)


def _peak_db(part: np.ndarray) -> float:
    return round(max(float(gain_to_db(np.max(np.abs(part), initial=0.0))), QUIETEST_DB), 1)


def _change_db(before: np.ndarray, after: np.ndarray) -> float | None:
    if not before.size:
        return None
    was, now = (float(gain_to_db(np.sqrt(np.mean(np.square(x, dtype=np.float64))))) for x in (before, after))
    return round(max(now, QUIETEST_DB) - was, 1) if was > QUIETEST_DB else None
