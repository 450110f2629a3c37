"""Hits that the playing itself says are missing: where the bars like this one have one, nothing else is struck instead, and no fill is played."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.kit.pieces import is_tom
from arkund.core.timing.bars import bars_of
from arkund.core.timing.measure import Deviation, deviations

PIECES = ("kick", "snare")
GRID = 16
LEAST_ALIKE = 4  # bars
SHARE = 0.9  # of the bars alike, that have the hit
KEPT_TIME = 0.8  # of them, that have the time-keeper there: where it pauses as well, a break is meant
KEEPERS = ("hihat", "ride")
CYMBALS = {*KEEPERS, "crash"}  # which are struck beside a drum, not instead of it
SAME_KEEPING = 0.7  # of the time-keeper's places, for two bars to be of the same kind
MOST_IN_A_BAR = 1  # where more than that seem to be missing, another pattern is played
NEAR_BEATS = 0.13  # nearer than this to the place, a stroke stands there


@dataclass(frozen=True, slots=True)
class Missing:
    """A hit that is not there: where it would be, how strong it usually is, and the bars that are like this one and have it."""

    piece: str
    bar: int
    place: float  # beats from the bar line
    time_s: float
    level_db: float
    alike: tuple[int, ...]


def missing(hits: Mapping[str, Sequence], tempo, meant: Sequence = ()) -> list[Missing]:
    """Return the kicks and snares that are missing, in order of time."""
    rows = [each for each in deviations(hits, tempo, GRID, meant) if each.bar >= 0]
    by_bar: dict[int, list[Deviation]] = {}
    for row in rows:
        by_bar.setdefault(row.bar, []).append(row)
    bars = sorted(by_bar)[:-1]  # the last one may end anywhere
    found = [each for piece in PIECES for each in _of(piece, bars, by_bar, tempo)]
    crowded = [each.bar for each in found]
    return sorted((m for m in found if crowded.count(m.bar) <= MOST_IN_A_BAR), key=lambda m: m.time_s)


def _of(piece: str, bars: list[int], by_bar: dict[int, list[Deviation]], tempo) -> list[Missing]:
    strong = {bar: _places(by_bar[bar], piece) for bar in bars}
    fills = {bar for bar in bars if any(is_tom(row.piece) for row in by_bar[bar])}
    plain = [bar for bar in bars if bar not in fills]
    # Strokes between the beats come and go: none of them is missed.
    usual = sorted({place for bar in plain for place in strong[bar] if place == round(place)})
    kept = {bar: frozenset().union(*(_places(by_bar[bar], keeper) for keeper in KEEPERS)) for bar in plain}
    out = []
    for bar in plain:
        like = [other for other in plain if _share(kept[bar], kept[other]) >= SAME_KEEPING]
        for place in usual:
            if place in strong[bar]:
                continue
            alike = _alike(bar, place, like, strong)
            having = [other for other in alike if place in strong[other]]
            if len(alike) >= LEAST_ALIKE and len(having) >= SHARE * len(alike) and _is_open(bar, place, having, by_bar):
                out.append(_missing(piece, bar, place, having, by_bar, tempo))
    return out


def _places(rows: list[Deviation], piece: str) -> frozenset[float]:
    return frozenset(round(row.meant, 3) for row in rows if row.piece == piece and not row.ghost)


def _alike(bar: int, place: float, like: list[int], strong: dict[int, frozenset[float]]) -> list[int]:
    """Return the bars in which a drum is played as in this one but for one place; where they are too few, all that keep time alike."""
    mine = strong[bar] - {place}
    same = [other for other in like if other != bar and strong[other] - {place} == mine]
    return same if len(same) >= LEAST_ALIKE else [other for other in like if other != bar]


def _share(one: frozenset[float], other: frozenset[float]) -> float:
    """Return how much of what either has both have."""
    return len(one & other) / len(one | other) if one | other else 1.0


def _is_open(bar: int, place: float, having: list[int], by_bar: dict[int, list[Deviation]]) -> bool:
    """Say whether nothing stands in a hit's place: no drum's stroke that those bars lack, and the time-keeper as in them."""

    def there(other: int) -> set[str]:
        return {row.piece for row in by_bar[other] if abs(row.place - place) < NEAR_BEATS and _counts(row)}

    usual = [there(other) for other in having]
    known = {piece for each in usual for piece in each}
    kept = [piece for piece in KEEPERS if np.mean([piece in each for each in usual]) >= KEPT_TIME]
    mine = there(bar)
    return mine - CYMBALS <= known and all(piece in mine for piece in kept)


def _counts(row: Deviation) -> bool:
    return not row.ghost or row.piece in KEEPERS


def _missing(piece: str, bar: int, place: float, having: list[int], by_bar: dict, tempo) -> Missing:
    rows = [
        row for other in having for row in by_bar[other]
        if row.piece == piece and not row.ghost and round(row.meant, 3) == place
    ]  # fmt: skip
    late_s = float(np.median([row.off_ms for row in rows])) / 1000.0
    bars = bars_of(tempo)
    time_s = bars.start_s(bar) + place * bars.of(bar).beat_s + late_s
    near = sorted(having, key=lambda other: abs(other - bar))
    return Missing(piece, bar, place, time_s, float(np.median([row.level_db for row in rows])), tuple(near))
