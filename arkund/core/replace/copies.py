"""A hit copied from another bar in all mics of the kit: what sounds with it comes along, and ends before the next stroke on either side."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from arkund.core.plan.plan import Capture, Placement, Plan

TOGETHER_S = 0.04  # strokes nearer than this are struck together
LEAD_S = 0.003  # before the first of them
CLEAR_S = 0.008  # and this much before the next stroke it has ended
SHORTEST_S, LONGEST_S = 0.06, 0.6
LIKE_DB = 3.0  # a hit is like the usual one where it is no further from it
WITH = ("hihat", "ride")  # time-keepers, by which a copy is put in its place


@dataclass(frozen=True, slots=True)
class Copy:
    """Where a hit is copied from and to (its own time in s of the recording), how much of it, and what else sounds in it."""

    piece: str
    from_s: float
    to_s: float
    before_s: float
    length_s: float
    level_db: float
    others: tuple[str, ...]


def copy_to(
    piece: str, to_s: float, level_db: float, sources_s: Sequence[float], hits: Mapping[str, Sequence]
) -> Copy | None:
    """Return the best copy of a drum's hit for a place, None where no hit fits.

    to_s : where it is to stand, moved to where the time-keeper is struck there; level_db : how strong it should be; sources_s : times near which hits are
    that may be copied, the best first; hits : all that is struck, in the time of the recording
    """
    strokes = sorted((h.time_s, name) for name, mine in hits.items() for h in mine)
    for at_s in sources_s:
        near = [
            h
            for h in hits.get(piece, [])
            if not h.placed and abs(h.time_s - at_s) < TOGETHER_S and abs(h.level_db - level_db) <= LIKE_DB
        ]
        if not near:
            continue
        source = min(near, key=lambda h: abs(h.time_s - at_s))
        place = to_s + _by_time_keeper(source.time_s, to_s, hits)
        mine, theirs = (_around(strokes, at, piece, other) for at, other in ((source.time_s, False), (place, True)))
        before = max(mine[0], theirs[0]) + LEAD_S
        length = min(mine[1], theirs[1], LONGEST_S) - CLEAR_S
        if length >= SHORTEST_S:
            return Copy(piece, source.time_s, place, before, length, source.level_db, mine[2])
    return None


def _by_time_keeper(from_s: float, to_s: float, hits: Mapping[str, Sequence]) -> float:
    """Return by how much a copy is moved, so that the time-keeper's stroke in it falls on the one that is there."""
    for piece in WITH:
        there = [h.time_s for h in hits.get(piece, []) if abs(h.time_s - to_s) < TOGETHER_S]
        along = [h.time_s for h in hits.get(piece, []) if abs(h.time_s - from_s) < TOGETHER_S]
        if there and along:
            return _nearest(there, to_s) - to_s - (_nearest(along, from_s) - from_s)
    return 0.0


def _nearest(some: Sequence[float], at_s: float) -> float:
    return min(some, key=lambda t: abs(t - at_s))


def _around(strokes: Sequence, at_s: float, piece: str, leave_own: bool) -> tuple[float, float, tuple[str, ...]]:
    """Return how long before a place the first stroke that sounds with it is, how long after it the next one comes, and what is struck with it."""
    together = [(t, name) for t, name in strokes if abs(t - at_s) < TOGETHER_S and not (leave_own and name == piece)]
    later = [t for t, _ in strokes if t >= at_s + TOGETHER_S]
    first = min([t for t, _ in together] + [at_s])
    others = tuple(dict.fromkeys(name for _, name in together if name != piece))
    return at_s - first, (later[0] - at_s if later else LONGEST_S), others


def changes_of(plan: Plan, copy: Copy, sample_rate_hz: int) -> dict:
    """Return the changes by which a copy stands in its place, in all mics; what was put there before goes."""
    at, to, before, length = (
        round(seconds * sample_rate_hz) for seconds in (copy.from_s, copy.to_s, copy.before_s, copy.length_s)
    )
    capture = Capture(
        id=f"{copy.piece}-{at}-{length}",
        name=f"{copy.piece} at {copy.from_s:.2f} s",
        piece=copy.piece,
        take=plan.take,
        at=at,
        before=before,
        length=length,
        level_db=round(copy.level_db, 2),
    )
    placement = Placement(capture=capture.id, at=to, length=length, everywhere=True)
    captures = [c for c in plan.captures if c.id != capture.id]
    placements = [p for p in plan.placements if p.at != to]
    return {
        "captures": [c.to_json() for c in (*captures, capture)],
        "placements": [p.to_json() for p in sorted((*placements, placement), key=lambda p: p.at)],
    }


def is_put(plan: Plan, copy: Copy, sample_rate_hz: int) -> bool:
    """Say whether something was put into a copy's place already."""
    return any(abs(p.at / sample_rate_hz - copy.to_s) < TOGETHER_S for p in plan.placements)
