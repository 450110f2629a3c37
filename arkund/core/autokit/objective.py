"""What a mix is to reach: goals, figures with the range in which each is wanted, and what a miss weighs."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType

from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ, octave_key
from arkund.core.card.own_style import OwnStyle, targets_of
from arkund.core.card.targets import CHANGES, GAINS, INF, off_by

INSIDE = 0.1  # how far within its range a figure is brought, so that it stays there once levers are rounded
WORSE = 3.0  # times as much where a figure misses by more than in the raw kit
COST_WEIGHT = 6.0  # what must not be lost goes before what is wanted
PER_CENT = 0.1  # of a dB
FAR = 2.0  # dB: where a figure misses by more at the start, it weighs no more than a miss of this
BUSIEST_ONLY = ("density",)  # what is not asked of the calmest part: it is told of a song
LEFT_OUT = ("headroom", "slope")  # the kit's level follows at the end; the slope is held octave by octave


@dataclass(frozen=True, slots=True)
class Goal:
    """One figure with the range in which it is wanted.

    weight : of a miss by one unit; inside : how far within the range it is brought; raw : the figure of the raw kit, None where it has none to be held against;
    shares : goals that share a name count by the furthest of them alone; calm_by : by how much the figure is higher in the calmest part than in the busiest,
    where it is measured; both are to hold the range
    """

    key: str
    low: float
    high: float
    weight: float = 1.0
    inside: float = INSIDE
    raw: float | None = None
    shares: str = ""
    calm_by: float = 0.0

    @property
    def name(self) -> str:
        """The name under which it counts."""
        return self.shares or self.key

    @property
    def range(self) -> tuple[float, float]:
        """The range in which the figure holds its own in both parts; its ends are crossed where none does."""
        return self.low - min(self.calm_by, 0.0), self.high - max(self.calm_by, 0.0)

    @property
    def inner(self) -> tuple[float, float]:
        """The range to which the figure is brought."""
        inside, (low, high) = min(self.inside, (self.high - self.low) / 2.0), self.range
        return low + inside, high - inside

    def missed(self, value: float) -> float:
        """Return what a value misses the inner range by, weighted: what lies beyond the raw kit's own miss weighs WORSE times as much."""
        off = off_by(value, self.inner)
        return self.weight * (off + (WORSE - 1.0) * max(off - self.allowed, 0.0))

    @property
    def allowed(self) -> float:
        """By how much the raw kit misses the range: missing by more is worse than leaving it alone; without limit where there is nothing to compare with."""
        return INF if self.raw is None else off_by(self.raw, self.inner)


@dataclass(frozen=True, slots=True)
class Objective:
    """Goals whose weighted misses are added up."""

    goals: tuple[Goal, ...]

    def missed(self, figures: Mapping[str, float | None]) -> float:
        """Return what figures miss altogether; those that are not known count for nothing."""
        by_name: dict[str, float] = {}
        for goal in self.goals:
            value = figures.get(goal.key)
            if value is not None:
                by_name[goal.name] = max(by_name.get(goal.name, 0.0), goal.missed(value))
        return sum(by_name.values())

    def tempered(self, figures: Mapping[str, float | None]) -> "Objective":
        """Return the goals with smaller weights for those that miss by more than FAR, so that one out of reach does not drag the rest after it. What can be
        reached without harm to others is reached at any weight.
        """

        def weight(goal: Goal) -> float:
            far = FAR * goal.inside / INSIDE
            return goal.weight / max(off_by(figures.get(goal.key), goal.range) / far, 1.0)

        return Objective(tuple(replace(goal, weight=weight(goal)) for goal in self.goals))

    def known(self, figures: Mapping[str, float | None]) -> "Objective":
        """Return the goals whose figures are known."""
        return Objective(tuple(goal for goal in self.goals if figures.get(goal.key) is not None))


def objective_of(
    style: str,
    raw: Mapping[str, float | None],
    own: OwnStyle | None = None,
    calm_by: Mapping[str, float] = MappingProxyType({}),
) -> Objective:
    """Return what a style wants of a kit: both halves of its card, and each octave within the slope.

    raw : the figures of the raw kit; of what is about a change it is none; own : a style of one's own that is made of it; calm_by : by how much figures are
    higher in the calmest part than in the busiest
    """
    goals, targets = [], targets_of(style, own)
    by = {key: value for key, value in calm_by.items() if key not in BUSIEST_ONLY}
    for each in GAINS:
        key = each.figure.key
        low, high = targets[key]
        if key not in LEFT_OUT:
            goals.append(Goal(key, low, high, raw=0.0 if key in CHANGES else raw.get(key), calm_by=by.get(key, 0.0)))
    furthest, octaves = targets["slope"][1], [octave_key(hz) for hz in SLOPE_HZ]
    goals += [Goal(key, -furthest, furthest, shares="slope", calm_by=by.get(key, 0.0)) for key in octaves]
    for each in COSTS:
        unit = PER_CENT if each.figure.unit == "%" else 1.0
        goals.append(Goal(each.figure.key, *each.ranges[style], weight=COST_WEIGHT * unit, inside=INSIDE / unit))
    return Objective(tuple(goals))
