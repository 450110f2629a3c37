"""Flams: strokes of one drum that are one gesture, and strokes of two drums that were meant together and fell apart."""

from collections.abc import Sequence
from dataclasses import dataclass

from arkund.core.timing.measure import Deviation
from arkund.core.timing.strokes import strokes

FLAM_MS = 45.0  # strokes nearer than this are one gesture
APART_MS = 6.0  # and further apart than this are heard as two
TOGETHER = ({"kick", "snare"}, {"snare", "crash"}, {"snare", "ride"}, {"snare", "hihat"})


@dataclass(frozen=True, slots=True)
class Flam:
    """Two strokes that were meant as one: of one drum (a drummer's flam) or of two that fell apart."""

    time_s: float
    bar: int
    first: str
    second: str
    apart_ms: float


def without_graces(rows: Sequence[Deviation]) -> list[Deviation]:
    """Return the hits without the grace notes of flams, which are meant to be early: of each drum the loudest of a stroke."""
    out = []
    for stroke in strokes(rows):
        loudest = {d.piece: d for d in sorted(stroke.hits, key=lambda d: d.level_db)}
        out += [d for d in stroke.hits if loudest[d.piece] is d]
    return out


def flams(rows: Sequence[Deviation]) -> list[Flam]:
    """Return pairs of strokes nearer than FLAM_MS: of one drum, and of kick and snare or snare and cymbal from APART_MS on.

    A grace note is a pair with its own drum's stroke alone.
    """
    mains = {(d.piece, d.time_s) for d in without_graces(rows)}
    out = []
    for k, a in enumerate(rows):
        for b in rows[k + 1 :]:
            apart_ms = (b.time_s - a.time_s) * 1000
            if apart_ms > FLAM_MS:
                break
            apart = {a.piece, b.piece} in TOGETHER and apart_ms >= APART_MS and not a.ghost and not b.ghost
            apart = apart and {(a.piece, a.time_s), (b.piece, b.time_s)} <= mains
            if a.piece == b.piece or apart:
                out.append(Flam(a.time_s, a.bar, a.piece, b.piece, round(apart_ms, 2)))
    return out
