"""Which hit of a piece is typical and clean enough to stand for others."""

import numpy as np

from arkund.core.plan.plan import Capture

BEFORE_S = 0.003
LONGEST_S = {"kick": 0.35, "snare": 0.35}
LONGEST_TOM_S = 0.8
LOUD_QUANTILE = 0.7
BEFORE_CLEAR_S = 0.09


def typical_hit(plan, hits: dict, piece: str, sample_rate_hz: int) -> Capture | None:
    """Return the hit of a piece that stands most alone at a usual strong level, or None without hits.

    A hit scores by the silence around it (seconds to the next stroke of any loud piece) minus its distance from the piece's 70 %
    level; ghosts are not considered.
    """
    mine = [h for h in hits.get(piece, []) if not h.ghost and h.time_s > BEFORE_CLEAR_S]
    if not mine:
        return None
    level = float(np.quantile([h.level_db for h in mine], LOUD_QUANTILE))
    loud = np.sort([h.time_s for p, hs in hits.items() for h in hs if p not in ("hihat", "ride") and not h.ghost])
    longest = LONGEST_S.get(piece, LONGEST_TOM_S)

    def clear(hit) -> tuple[float, float]:
        gaps = loud - hit.time_s
        after = gaps[gaps > 0.001].min(initial=longest)
        before = -gaps[gaps < -0.001].max(initial=-longest)
        return min(after, longest), min(before, BEFORE_CLEAR_S)

    def score(hit) -> float:
        after, before = clear(hit)
        return 4.0 * after + 6.0 * before - 0.15 * abs(hit.level_db - level)

    best = max(mine, key=score)
    length = max(clear(best)[0] - 0.006, 0.03)
    return Capture(
        id=f"{piece}-{round(best.time_s * 1000)}",
        piece=piece,
        take=plan.take,
        at=round(best.time_s * sample_rate_hz),
        before=round(BEFORE_S * sample_rate_hz),
        length=round(length * sample_rate_hz),
        level_db=round(best.level_db, 2),
    )


def strikes(capture: Capture, hits: dict, sample_rate_hz: int) -> tuple[tuple[int, float], ...]:
    """Return where a layer strikes: each hit's sample, and its level in dB against the captured hit."""
    return tuple(
        (round(h.time_s * sample_rate_hz), round(h.level_db - capture.level_db, 2)) for h in hits.get(capture.piece, [])
    )
