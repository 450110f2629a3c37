"""What a mix is to reach: rows of figures with the range in which each is wanted, and what a miss weighs."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ, octave_key
from arkund.core.card.targets import CHANGES, GAINS, INF, TARGETS

INSIDE = 0.2  # how far within its range a figure is brought, so that it stays there once levers are rounded
WORSE = 3.0  # times as much where a figure misses by more than in the raw kit
COST_WEIGHT = 6.0  # what must not be lost goes before what is wanted
PER_CENT = 0.1  # of a dB
FAR = 3.0  # dB that a figure misses by
LEFT_OUT = ("headroom", "slope")  # the kit's level follows at the end; the slope is held octave by octave


@dataclass(frozen=True, slots=True)
class Row:
    """One figure with the range in which it is wanted.

    weight : of a miss by one unit; inside : how far within the range it is brought; raw : the figure of the raw kit, None where it has none to be held against;
    shares : rows of the same name count by the furthest of them alone
    """

    key: str
    low: float
    high: float
    weight: float = 1.0
    inside: float = INSIDE
    raw: float | None = None
    shares: str = ""

    @property
    def inner(self) -> tuple[float, float]:
        """The range to which the figure is brought."""
        inside = min(self.inside, (self.high - self.low) / 2.0)
        return self.low + inside, self.high - inside

    def missed(self, value: float) -> float:
        """Return what a value misses the inner range by, weighted: what lies beyond the raw kit's own miss weighs WORSE times as much."""
        low, high = self.inner
        off = max(low - value, value - high, 0.0)
        return self.weight * (off + (WORSE - 1.0) * max(off - self.allowed, 0.0))

    @property
    def allowed(self) -> float:
        """By how much the raw kit misses the range: missing by more is worse than leaving it alone; without limit where there is nothing to compare with."""
        if self.raw is None:
            return INF
        low, high = self.inner
        return max(low - self.raw, self.raw - high, 0.0)


@dataclass(frozen=True, slots=True)
class Objective:
    """Rows whose weighted misses are added up."""

    rows: tuple[Row, ...]

    def missed(self, figures: Mapping[str, float | None]) -> float:
        """Return what figures miss altogether; those that are not known count for nothing."""
        by_name: dict[str, float] = {}
        for row in self.rows:
            value = figures.get(row.key)
            if value is not None:
                name = row.shares or row.key
                by_name[name] = max(by_name.get(name, 0.0), row.missed(value))
        return sum(by_name.values())

    def tempered(self, figures: Mapping[str, float | None]) -> "Objective":
        """Return the rows, those that are missed by more than FAR weighing less for it: what is out of reach must not drag the whole mix after it."""
        rows = []
        for row in self.rows:
            value = figures.get(row.key)
            off = 0.0 if value is None else max(row.low - value, value - row.high, 0.0)
            unit = row.inside / INSIDE
            rows.append(replace(row, weight=row.weight / max(off / (FAR * unit), 1.0)))
        return Objective(tuple(rows))

    def known(self, figures: Mapping[str, float | None]) -> "Objective":
        """Return the rows whose figures are known."""
        return Objective(tuple(row for row in self.rows if figures.get(row.key) is not None))

    def vector(self, figures: Mapping[str, float | None]) -> np.ndarray:
        """Return the figures of the rows, in their order, float64 [shape=(rows,)]."""
        return np.array([figures[row.key] for row in self.rows], float)


def names(rows: Sequence[Row]) -> list[str]:
    """Return the names under which rows count, each once, in their order."""
    return list(dict.fromkeys(row.shares or row.key for row in rows))


def objective_of(style: str, raw: Mapping[str, float | None]) -> Objective:
    """Return what a style wants of a kit: both halves of its card, and each octave within the slope.

    raw : the figures of the raw kit; of what is about a change it is none
    """
    rows = []
    for row in GAINS:
        key, (low, high) = row.figure.key, row.ranges[style]
        if key not in LEFT_OUT:
            rows.append(Row(key, low, high, raw=0.0 if key in CHANGES else raw.get(key)))
    furthest = TARGETS[style]["slope"][1]
    rows += [Row(octave_key(hz), -furthest, furthest, shares="slope") for hz in SLOPE_HZ]
    for row in COSTS:
        unit = PER_CENT if row.figure.unit == "%" else 1.0
        rows.append(Row(row.figure.key, *row.ranges[style], weight=COST_WEIGHT * unit, inside=INSIDE / unit))
    return Objective(tuple(rows))
