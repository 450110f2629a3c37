"""How far each hit is from where it was meant: by hit, by piece, and over the song."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.timing.bars import bars_of
from arkund.core.timing.grid import SWING_EVEN, places


@dataclass(frozen=True, slots=True)
class Deviation:
    """One hit against the grid."""

    piece: str
    time_s: float
    bar: int
    place: float  # beats from the bar line where it was played
    meant: float  # beats from the bar line of the nearest grid place
    off_ms: float  # positive = late
    ghost: bool
    level_db: float = 0.0
    sure: float = 1.0  # how sure the finder was of it, 0..1


def deviations(
    hits: Mapping[str, Sequence], tempo, grid: int, meant: Sequence = (), swing_percent: float = SWING_EVEN
) -> list[Deviation]:
    """Return each hit's distance from the nearest place of a grid (places per whole note), sorted by time.

    meant : the Plan's grids of single bars, which go before ``grid``; a stroke just before a bar line belongs to the bar it announces.
    """
    bars = bars_of(tempo)
    rows = sorted(((h.time_s, piece, h) for piece, mine in hits.items() for h in mine), key=lambda row: row[:2])
    if not rows:
        return []
    times = np.array([row[0] for row in rows])
    by_bar = {m.bar: m.grid for m in meant}
    out = []
    numbers = bars.bar_of(times)
    edges = np.flatnonzero(np.diff(numbers)) + 1
    for mine in np.split(np.arange(times.size), edges):
        bar = int(numbers[mine[0]])
        stretch, start = bars.of(bar), bars.start_s(bar)
        where = places(stretch.beats, stretch.beat_unit, by_bar.get(bar, grid), swing_percent)
        played = (times[mine] - start) / stretch.beat_s
        nearest = np.abs(played[:, None] - where).argmin(axis=1)
        for k, place, at in zip(mine, played, nearest, strict=True):
            time_s, piece, hit = rows[k]
            off_ms = (place - where[at]) * stretch.beat_s * 1000
            if at == where.size - 1:  # the next bar's line
                early = (place - where[at]) * stretch.beat_s / bars.of(bar + 1).beat_s
                out.append(Deviation(piece, time_s, bar + 1, early, 0.0, off_ms, hit.ghost, hit.level_db, hit.sure))
            else:
                out.append(
                    Deviation(
                        piece, time_s, bar, float(place), float(where[at]), off_ms, hit.ghost, hit.level_db, hit.sure
                    )
                )
    return out


@dataclass(frozen=True, slots=True)
class PieceTiming:
    """How a piece sits on the grid."""

    piece: str
    hits: int
    mean_ms: float
    spread_ms: float
    furthest_ms: float


def by_piece(rows: Sequence[Deviation]) -> list[PieceTiming]:
    """Return mean push or drag and spread of each piece."""
    out = []
    for piece in dict.fromkeys(d.piece for d in rows):
        off = np.array([d.off_ms for d in rows if d.piece == piece])
        furthest = float(off[np.argmax(np.abs(off))])
        out.append(PieceTiming(piece, off.size, float(np.mean(off)), float(np.std(off)), furthest))
    return out


def drift(rows: Sequence[Deviation], over_bars: int = 4) -> list[tuple[int, float]]:
    """Return (bar, ms): how far the kit as a whole is from the grid around each bar, the median over some bars."""
    strong = [d for d in rows if not d.ghost]
    bars = np.array([d.bar for d in strong])
    off = np.array([d.off_ms for d in strong])
    half = over_bars / 2
    return (
        [(int(bar), round(float(np.median(off[np.abs(bars - bar) <= half])), 2)) for bar in np.unique(bars)]
        if strong
        else []
    )
