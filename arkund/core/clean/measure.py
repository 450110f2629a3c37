"""Own hits against others' hits in one mic, as the gate's detector hears them."""

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from arkund.core.dsp.bank import WIDE, bank_of, filter_bank
from arkund.core.tools.gate import Gate, gain
from arkund.core.units import db_to_gain, gain_to_db

BEFORE_S, AFTER_S = 0.03, 0.02
APART_S = 0.035  # another's hit this near before an own one is not counted as bleed
RINGING_S = {"kick": 0.2, "snare": 0.25}  # nor one while the own drum still rings
TOM_RINGING_S = 0.7
MOST_OF_A_PIECE = 120
SETTLE_S = 0.03


@dataclass(frozen=True, slots=True)
class Separation:
    """Peaks of the key in dBFS: own hits, and others' hits by piece; the margin is between the softest own and the loudest other one. own_s, others_s : their
    times
    """

    mic: str
    own_db: tuple[float, ...]
    others_db: dict[str, tuple[float, ...]]
    own_s: tuple[float, ...] = ()
    others_s: dict[str, tuple[float, ...]] = field(default_factory=dict)

    @property
    def softest_own_db(self) -> float:
        """Return the level of the softest own hit."""
        return min(self.own_db, default=0.0)

    @property
    def loudest_other_db(self) -> float:
        """Return the level of the loudest hit of another drum."""
        return max((v for values in self.others_db.values() for v in values), default=-120.0)

    @property
    def margin_db(self) -> float:
        """Return how far the softest wanted stands above the loudest unwanted."""
        return self.softest_own_db - self.loudest_other_db


def separation(read, mic, hits: dict, settings: Gate, sample_rate_hz: int) -> Separation:
    """Measure a mic; read(start, stop) gives it trimmed and in place, hits are in the time of what is read."""
    own_times = np.array([h.time_s for h in hits.get(mic.piece, [])])
    ringing = RINGING_S.get(mic.piece, TOM_RINGING_S)
    sections = settings.detector(sample_rate_hz)

    def peaks(times) -> tuple[float, ...]:
        return tuple(round(db, 1) for db in _peaks_db(read, times, sections, sample_rate_hz))

    others, others_s = {}, {}
    for piece, mine in hits.items():
        if piece == mic.piece:
            continue
        strong = sorted(mine, key=lambda h: -h.level_db)[:MOST_OF_A_PIECE]
        times = [h.time_s for h in strong if _alone(h.time_s, own_times, ringing)]
        if times:
            others[piece], others_s[piece] = peaks(times), tuple(round(t, 4) for t in times)
    return Separation(mic.id, peaks(own_times), others, tuple(np.round(own_times, 4).tolist()), others_s)


def opened(audio: np.ndarray, gate: Gate, sample_rate_hz: int) -> list[tuple[int, int]]:
    """Return where a gate is more than half open in dB, as (first sample, the one after the last) by stretch; audio : what it hears [shape=(samples,)]."""
    closed = gain(audio, gate, sample_rate_hz) < db_to_gain(-0.5 * gate.range_db)
    edges = np.flatnonzero(np.diff(np.concatenate([[True], closed, [True]]).astype(np.int8)))
    return [tuple(each) for each in edges.reshape(-1, 2).tolist()]


def _alone(time_s: float, own_times: np.ndarray, ringing_s: float) -> bool:
    """Say whether a foreign hit is heard without the own drum: none just after it, none still ringing."""
    after = own_times - time_s
    return not np.any((after > -ringing_s) & (after < APART_S))


def _peaks_db(read, times_s: Sequence[float], sections, rate: int) -> list[float]:
    """Return the peak just after each time, through a filter; several go through it side by side."""
    settle = int(SETTLE_S * rate)
    size, out = settle + int((AFTER_S + 0.002) * rate), []
    begins = [int((t - 0.002) * rate) - settle for t in times_s]
    for first in range(0, len(begins), WIDE):
        parts = bank_of([read(begin, begin + size) for begin in begins[first : first + WIDE]])
        if sections:
            parts = filter_bank(parts, [sections] * parts.shape[1])
        largest = np.abs(parts[settle:]).max(axis=0, initial=0.0)
        out += gain_to_db(largest[: len(begins[first : first + WIDE])]).tolist()
    return out
