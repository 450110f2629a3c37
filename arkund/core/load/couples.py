"""Which of two mics stands where, told by when sound arrives: a swapped pair contradicts it, whatever the kit sounds like.

A name that is clear stands unless physics speaks against it. What is used here holds for any kit and any room: the inner mic of a kick hears it before the
outer one; a snare is nearer to the mic above it than to the one below, and what stands above it as well; the hi-hat's mic is nearer to the snare than the
ride's; hi-hat and first tom are on the drummer's left, floor tom and ride on the right; of two toms the one nearer to the hi-hat is the higher one.
"""

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from arkund.core.kit.pieces import is_tom
from arkund.core.lineup.measure import arrival, clean_hits

FEWEST_HITS = 3
MOST_HITS = 48
LEFT_PIECES, RIGHT_PIECES = ("hihat", "tom1", "snare"), ("floor", "ride")


@dataclass(frozen=True, slots=True)
class Couple:
    """Two mics that may carry each other's name. sort : ``in/out``, ``top/bottom``, ``hat/ride``, ``toms`` or ``left/right``"""

    sort: str
    a: str
    b: str


@dataclass(frozen=True, slots=True)
class Later:
    """How much later mic ``b`` hears a piece than mic ``a``, in ms, over so many lone hits."""

    a: str
    b: str
    piece: str
    later_ms: float
    sure: bool
    hits: int


# Of each sort: how far apart the mics may stand at most, in ms of sound, and at which pieces it is measured.
MEASURED = {
    "in/out": (4.0, ("kick",)),
    "top/bottom": (2.0, ("snare", "hihat", "ride", "crash")),
    "hat/ride": (5.0, ("snare",)),
    "toms": (5.0, ("hihat", "snare")),
    "left/right": (6.0, (*LEFT_PIECES, *RIGHT_PIECES)),
}


def couples(mics: Sequence) -> list[Couple]:
    """Return the couples of a kit's mics (anything with .id, .piece, .role, .side)."""
    out = [
        *_by_role("in/out", mics, "kick", "in", "out"),
        *_by_role("top/bottom", mics, "snare", "top", "bottom"),
        *(Couple("hat/ride", hat.id, ride.id) for hat in _of(mics, "hihat") for ride in _of(mics, "ride")),
    ]
    toms = sorted((mic for mic in mics if is_tom(mic.piece) and mic.role == "close"), key=_tom_order)
    out += [Couple("toms", a.id, b.id) for a, b in itertools.combinations(toms, 2) if a.piece != b.piece]
    # Of a pair of rooms arrival does not tell: what comes from the walls hides which side was the first.
    left, right = ([mic.id for mic in mics if mic.role == "overhead" and mic.side == side] for side in "LR")
    return out + [Couple("left/right", a, b) for a, b in zip(left, right, strict=False)]


def _of(mics: Iterable, piece: str) -> list:
    return [mic for mic in mics if mic.piece == piece and mic.role in ("spot", "close")]


def _by_role(sort: str, mics: Iterable, piece: str, first: str, second: str) -> list[Couple]:
    mine = [mic for mic in mics if mic.piece == piece]
    firsts, seconds = ([mic.id for mic in mine if mic.role == role] for role in (first, second))
    return [Couple(sort, a, b) for a, b in zip(firsts, seconds, strict=False)]


def _tom_order(mic) -> tuple:
    return mic.piece == "floor", mic.piece


def later(plan, recordings, hits: Mapping[str, Sequence]) -> list[Later]:
    """Return for each couple how much later the second mic hears the pieces that tell which is which."""
    rate, out = recordings.sample_rate_hz, []
    at = {piece: [round(h.time_s * rate) for h in clean_hits(hits, piece)[:MOST_HITS]] for piece in hits}
    for couple in couples(plan.mics):
        most_ms, pieces = MEASURED[couple.sort]
        readers = [recordings.mic(plan.take, mic) for mic in (couple.a, couple.b)]
        if None in readers:
            continue
        for piece in pieces:
            if len(at.get(piece, [])) >= FEWEST_HITS:
                delay_ms, _, _, sure = arrival(*readers, at[piece], most_ms, rate)
                out.append(Later(couple.a, couple.b, piece, round(delay_ms, 3), sure, len(at[piece])))
    return out
