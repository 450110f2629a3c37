"""The hits of a take as they stand: what was measured, with the engineer's corrections, strengths and ghosts."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.kit.pieces import PIECES

GHOST_BELOW_DB = -16.0  # a snare hit this far under the piece's full hits is a ghost note
VELOCITY_SPAN_DB = 40.0  # velocity 127 at the full level, 1 this far below
SAME_S = 0.008  # a correction names a hit by its time, within this
PLACED_S = 0.03  # a hit that stands in the place of one lies so near to it
FULL_QUANTILE = 0.85
NO_LEVEL_DB = -12.0  # of a hit by hand of a piece that has no other


@dataclass(frozen=True, slots=True)
class Hit:
    """One hit of one piece in the time of the recording."""

    piece: str
    time_s: float
    level_db: float  # peak in its own mic, dBFS of the recording
    velocity: int  # 1-127, from the level against the piece's full hits
    ghost: bool
    by_hand: bool = False
    sure: float = 1.0  # how sure the finder was, 0..1
    placed: bool = False  # what sounds there is another hit, put in its place: it is not in the recording


def resolve(
    found: Mapping[str, Sequence[Sequence[float]]], changes: Sequence, placed: Sequence[tuple[str, float, float]] = ()
) -> dict[str, list[Hit]]:
    """Return the hits by piece in the kit's order, sorted by time.

    found : (time_s, level_db, sure) of each measured hit by piece; changes : the Plan's HitChanges in the order they were made; placed : (piece, time_s,
    level_db) of each hit that stands in the place of another, whose strength it has from then on, or where one was missing
    """
    rows = {piece: [[time, level, False, sure, False] for time, level, sure in hits] for piece, hits in found.items()}
    usual = {piece: float(np.median([row[1] for row in mine])) for piece, mine in rows.items() if mine}
    for change in changes:
        mine = rows.setdefault(change.piece, [])
        if change.kind == "add":
            level = usual.get(change.piece, NO_LEVEL_DB) if change.level_db is None else change.level_db
            mine.append([change.time_s, level, True, 1.0, False])
            continue
        near = [row for row in mine if abs(row[0] - change.time_s) <= SAME_S]
        if near:
            nearest = min(near, key=lambda row: abs(row[0] - change.time_s))
            if change.kind == "remove":
                mine.remove(nearest)
            else:
                nearest[0], nearest[2:4] = change.to_s, [True, 1.0]
    for piece, time_s, level_db in placed:
        mine = rows.setdefault(piece, [])
        near = min(mine, key=lambda row: abs(row[0] - time_s), default=None)
        if near is not None and abs(near[0] - time_s) <= PLACED_S:
            near[1], near[4] = level_db, True
        else:
            mine.append([time_s, level_db, True, 1.0, True])
    out = {}
    for piece, hits in sorted(rows.items(), key=lambda row: PIECES.index(row[0]) if row[0] in PIECES else len(PIECES)):
        full = float(np.quantile([row[1] for row in hits], FULL_QUANTILE)) if hits else 0.0
        out[piece] = [_hit(piece, *row, full) for row in sorted(hits)]
    return out


def _hit(piece: str, time_s: float, level_db: float, by_hand: bool, sure: float, placed: bool, full_db: float) -> Hit:
    below = level_db - full_db
    velocity = min(max(round(127 * (1 + below / VELOCITY_SPAN_DB)), 1), 127)
    return Hit(piece, time_s, level_db, velocity, piece == "snare" and below < GHOST_BELOW_DB, by_hand, sure, placed)


def usual_level_db(hits: Sequence[Hit]) -> float:
    """Return the level of a drum's usual hit that is no ghost, 0 without hits."""
    levels = sorted(h.level_db for h in hits if not h.ghost) or sorted(h.level_db for h in hits)
    return float(levels[len(levels) // 2]) if levels else 0.0


def against_usual(hits: Sequence[Hit], sample_rate_hz: int) -> tuple[tuple[int, float], ...]:
    """Return a drum's hits in order as (first sample, dB against the usual one that is no ghost), one at a place."""
    usual = usual_level_db(hits)
    rows = {round(h.time_s * sample_rate_hz): round(float(h.level_db - usual), 2) for h in hits}
    return tuple(sorted(rows.items()))
