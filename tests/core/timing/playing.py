"""Strokes as hits, for tests of timing: by hand, and as the generated drummer plays them."""

from arkund.core.demo.score import GHOST_BELOW_DB, Stroke
from arkund.core.hits.resolve import Hit


def hit(piece: str, time_s: float, ghost: bool = False) -> Hit:
    return Hit(piece, time_s, -8.0, 110, ghost)


def hits_of(strokes: list[Stroke]) -> dict[str, list[Hit]]:
    out: dict[str, list[Hit]] = {}
    for s in strokes:
        ghost = s.piece == "snare" and s.level_db < GHOST_BELOW_DB
        out.setdefault(s.piece, []).append(Hit(s.piece, s.time_s, s.level_db - 8.0, 100, ghost))
    return out
