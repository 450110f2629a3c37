"""Find the smallest moves of levers that bring figures into their ranges: linearise by measured response, solve, measure, accept or take a smaller step.

Sequential linear programming with a box as trust region (Fletcher and Sainz de la Maza 1989; Nocedal and Wright 2006, section 18.5): the misses are
piecewise linear in the figures, so each step is a linear program whose solution moves few levers. The response is measured once by differences and then
corrected by what each step did (Broyden 1965).
"""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.optimize import linprog

from arkund.core.autokit.objective import WORSE, Objective
from arkund.core.card.targets import off_by

Figures = Mapping[str, float | None]
FIRST_RADIUS, LEAST_RADIUS = 3.0, 0.2  # of the box in which the response is taken as linear, in lever steps
GROWS, SHRINKS = 1.5, 0.5
REACHED = 0.3  # what may be missed and needs no other sweep
WORTH = 0.05  # what a step must promise, and what it must give of that
LOOKED = 6  # levers that were not moved, tried again
WORTH_AGAIN = 0.5  # what a sweep must win to be followed by another, and a search where levers were moved before
NO_MOVE = 0.01
OUT = 0.05  # by which a figure may miss its range and still hold it
HEARD = 0.5  # of a lever's step: less is hardly heard
KEPT, HARDLY_HEARD = (
    0.1,
    0.3,
)  # what may be missed more to leave a lever alone, and one that was moved by less than HEARD


@dataclass(frozen=True, slots=True)
class Lever:
    """What may be moved, in its own unit.

    start : where it is left alone; low, high : how far it may go; step : a move that is surely heard; price : what a unit costs, in weighted units of misses;
    serves : the figures for whose sake it is moved, None for any; what it does to others counts where it harms them, and where it is brought back
    """

    key: str
    start: float
    low: float
    high: float
    step: float = 1.0
    price: float = 0.05
    serves: frozenset[str] | None = None

    def is_for(self, key: str) -> bool:
        """Say whether it is moved for the sake of a figure."""
        return self.serves is None or key in self.serves


@dataclass(frozen=True, slots=True)
class Solution:
    """Where levers were left, the figures there, and by how much each figure answers a lever's unit [shape=(goals, levers)]."""

    levers: tuple[Lever, ...]
    values: np.ndarray
    figures: Figures
    objective: Objective
    response: np.ndarray

    @property
    def moved(self) -> dict[str, float]:
        """The values of the levers that were moved, by key."""
        pairs = zip(self.levers, self.values.tolist(), strict=True)
        return {lever.key: value for lever, value in pairs if value != lever.start}


class _Problem:
    """Levers, what they are to reach, and how figures are measured; each place is measured once."""

    def __init__(
        self,
        levers: Sequence[Lever],
        objective: Objective,
        measure: Callable[[dict[str, float]], Figures],
        each: Callable = map,
    ) -> None:
        self.levers, self._measure, self._each = tuple(levers), measure, each
        self.start = np.array([lever.start for lever in levers], float)
        self.low = np.array([lever.low for lever in levers], float)
        self.high = np.array([lever.high for lever in levers], float)
        self.step = np.array([lever.step for lever in levers], float)
        self.price = np.array([lever.price for lever in levers], float)
        self._seen: dict[bytes, Figures] = {}
        first = self.figures(self.start)
        self.objective = objective.known(first).tempered(first)
        self.serves = np.array([[lever.is_for(goal.key) for lever in levers] for goal in self.objective.goals], bool)

    def figures(self, values: np.ndarray) -> Figures:
        self.look_at([values])
        return self._seen[values.tobytes()]

    def look_at(self, places: Sequence[np.ndarray]) -> None:
        """Measure several places, side by side where that is possible."""
        new = list({place.tobytes(): place for place in places if place.tobytes() not in self._seen}.values())
        asked = [{lever.key: float(v) for lever, v in zip(self.levers, place, strict=True)} for place in new]
        for place, found in zip(new, self._each(self._measure, asked), strict=True):
            self._seen[place.tobytes()] = found

    def merit(self, values: np.ndarray) -> float:
        """Return what is missed at some values and what the moves cost."""
        return self.objective.missed(self.figures(values)) + self.cost(values)

    def cost(self, values: np.ndarray) -> float:
        return float(np.sum(self.price * np.abs(values - self.start)))

    def vector(self, values: np.ndarray) -> np.ndarray:
        """Return the figures of all goals; one that is no longer known is as it was at the start."""
        found, first = self.figures(values), self.figures(self.start)
        return np.array([first[r.key] if found.get(r.key) is None else found[r.key] for r in self.objective.goals])

    def stepped(self, at: np.ndarray, number: int) -> np.ndarray:
        """Return values with one lever a step further, the way that its range allows."""
        there, step = at.copy(), self.step[number]
        up = at[number] + step <= self.high[number]
        there[number] = min(max(at[number] + (step if up else -step), self.low[number]), self.high[number])
        return there

    def response(self, at: np.ndarray, known: np.ndarray, numbers: Sequence[int]) -> np.ndarray:
        """Return what one unit of each lever changes of each goal's figure [shape=(goals, levers)]: measured by one step of some,
        of the others as it is known.
        """
        steps = {number: self.stepped(at, number) for number in numbers}
        self.look_at(list(steps.values()))
        out = known.copy()
        for number, there in steps.items():
            if by := there[number] - at[number]:
                out[:, number] = (self.vector(there) - self.vector(at)) / by
        return out

    def worth_a_look(self, at: np.ndarray, known: np.ndarray) -> list[int]:
        """Return the levers that were moved, and as many of the others as LOOKED, by what they are known to do for what is still missed."""
        missed = np.array([g.missed(v) for g, v in zip(self.objective.goals, self.vector(at).tolist(), strict=True)])
        helps = np.abs(known * self.step * self.serves).T @ np.minimum(missed, 1.0)
        moved = np.abs(at - self.start) > 0.05
        order = np.argsort(-np.where(moved, np.inf, helps))
        return sorted(order[: int(moved.sum()) + LOOKED].tolist())


def solve(
    levers: Sequence[Lever],
    objective: Objective,
    measure: Callable[[dict[str, float]], Figures],
    rounds: int = 10,
    sweeps: int = 4,
    begin: Mapping[str, float] | None = None,
    each: Callable = map,
    on_progress: Callable[[float], None] = lambda share: None,
) -> Solution:
    """Return the levers' values that miss least at the lowest price.

    measure : returns the figures at values of all levers by key; it may raise to end the search. each : as ``map``, to measure several at once.
    begin : where the search begins, the levers' starts where nothing else is said; sweeps : how often all levers are tried at most; rounds : at most so many
    steps after each of them
    """
    problem = _Problem(levers, objective, measure, each)
    begun = np.array([(begin or {}).get(lever.key, lever.start) for lever in levers], float)
    begun = now = np.clip(begun, problem.low, problem.high)
    response = np.zeros((len(problem.objective.goals), len(levers)))
    for sweep in range(sweeps):
        before = now
        if sweep and problem.objective.missed(problem.figures(now)) < REACHED:
            break
        numbers = problem.worth_a_look(now, response) if sweep else range(len(levers))
        response = problem.response(now, response, numbers)
        on_progress((sweep + 0.6) / sweeps)
        now, response = _descend(problem, now, response, rounds, FIRST_RADIUS)
        on_progress((sweep + 1.0) / sweeps)
        if problem.merit(before) - problem.merit(now) < WORTH_AGAIN:
            break
    now = _fewest(problem, now, response)
    if begin and problem.merit(begun) - problem.merit(now) < WORTH_AGAIN:
        now = begun
    return Solution(problem.levers, now, problem.figures(now), problem.objective, response)


def _descend(
    problem: _Problem, now: np.ndarray, response: np.ndarray, rounds: int, radius: float
) -> tuple[np.ndarray, np.ndarray]:
    """Return values after steps that the response promises and that keep it, and the response as they corrected it."""
    for _ in range(rounds):
        wanted = _linear(problem, now, response, radius)
        promised = problem.merit(now) - _expected(problem, now, wanted, response)
        if promised < WORTH or radius < LEAST_RADIUS:
            break
        got = problem.merit(now) - problem.merit(wanted)
        response = _corrected(problem, now, wanted, response)
        if got < WORTH * promised:
            radius *= SHRINKS
            continue
        now, radius = wanted, radius * (GROWS if got > promised / 2.0 else 1.0)
    return now, response


def _corrected(problem: _Problem, a: np.ndarray, b: np.ndarray, response: np.ndarray) -> np.ndarray:
    """Return the response with the least change that explains a step (Broyden 1965), each lever in its own steps; one shorter than a lever's step explains no
    more than its share, as what figures differ by there is what they jump by.
    """
    by = (b - a) / problem.step
    length = max(float(by @ by), 1.0)
    scaled = response * problem.step
    rest = problem.vector(b) - problem.vector(a) - scaled @ by
    return (scaled + np.outer(rest, by) / length) / problem.step


def _expected(problem: _Problem, at: np.ndarray, to: np.ndarray, response: np.ndarray) -> float:
    """Return the merit that a response promises."""
    values = problem.vector(at) + response @ (to - at)
    figures = {goal.key: float(v) for goal, v in zip(problem.objective.goals, values, strict=True)}
    return problem.objective.missed(figures) + problem.cost(to)


def _linear(problem: _Problem, at: np.ndarray, response: np.ndarray, radius: float) -> np.ndarray:
    """Return the best values within a box around some, if figures answered by the response: a linear program (HiGHS).

    Variables: how far each lever goes up, and down; how far it is from its start; by how much each name of goals misses; by how much beyond the raw kit's own
    miss. A lever that goes away from its start helps those figures alone that it serves.
    """
    goals, levers = problem.objective.goals, len(problem.levers)
    called = list(dict.fromkeys(goal.name for goal in goals))
    misses, beyond = levers * 3, levers * 3 + len(called)
    size = beyond + len(called)
    lines, bounds = [], []

    def under(terms: dict[int, float], bound: float) -> None:
        line = np.zeros(size)
        line[list(terms)] = list(terms.values())
        lines.append(line)
        bounds.append(bound)

    for k in range(levers):
        for sign in (1.0, -1.0):
            from_start = sign * (problem.start[k] - at[k])
            under({k: sign, levers + k: -sign, 2 * levers + k: -1.0}, from_start)
    returns = {1.0: at < problem.start, -1.0: at > problem.start}
    for goal, value, answers, serves in zip(goals, problem.vector(at), response, problem.serves, strict=True):
        name = called.index(goal.name)
        low, high = goal.inner
        for edge, sign in ((high, 1.0), (low, -1.0)):
            if not np.isfinite(edge):
                continue
            terms = {}
            for way, first in ((1.0, 0), (-1.0, levers)):
                push = sign * way * goal.weight * answers
                counted = np.where(serves | returns[way], push, np.maximum(push, 0.0))
                terms |= dict(zip(range(first, first + levers), counted.tolist(), strict=True))
            bound = sign * goal.weight * (edge - value)
            under(terms | {misses + name: -1.0}, bound)
            if np.isfinite(goal.allowed):
                under(terms | {beyond + name: -1.0}, bound + goal.weight * goal.allowed)
    cost = np.concatenate(
        [np.zeros(2 * levers), problem.price, np.ones(len(called)), np.full(len(called), WORSE - 1.0)]
    )
    box = radius * problem.step
    # One that comes back stops at its start: what it does beyond it counts in another way.
    up = np.minimum(np.where(returns[1.0], problem.start, problem.high) - at, box)
    down = np.minimum(at - np.where(returns[-1.0], problem.start, problem.low), box)
    ends = [*[(0.0, max(by, 0.0)) for by in (*up, *down)], *[(0.0, None)] * (size - 2 * levers)]
    found = linprog(cost, A_ub=np.array(lines), b_ub=np.array(bounds), bounds=ends, method="highs")
    if found.status != 0:
        return at
    return np.clip(at + found.x[:levers] - found.x[levers : 2 * levers], problem.low, problem.high)


def _fewest(problem: _Problem, values: np.ndarray, response: np.ndarray) -> np.ndarray:
    """Return values with levers left alone that hardly help, the least moved first, and the others rounded to tenths."""
    by = values - problem.start
    little = (np.abs(by) > NO_MOVE) & (
        np.round(by, 1) == 0.0
    )  # the least of a clipper takes much off the one loudest hit
    now = np.clip(np.round(np.where(little, problem.start + 0.1 * np.sign(by), values), 1), problem.low, problem.high)
    moved, begun = np.abs(now - problem.start) / problem.step, now
    for number in np.argsort(moved):
        if now[number] == problem.start[number]:
            continue
        without = now.copy()
        without[number] = problem.start[number]
        allowed = HARDLY_HEARD if moved[number] < HEARD else KEPT
        if _expected(problem, now, without, response) > problem.merit(now) + 2.0 * allowed:
            continue  # not even by what is known of it
        if problem.merit(without) <= problem.merit(now) + allowed and not _leaves_range(problem, begun, without):
            now = without
    return now


def _leaves_range(problem: _Problem, begun: np.ndarray, there: np.ndarray) -> bool:
    """Say whether a figure that held its range where levers began to be left alone does not hold it there; of the others the merit tells."""
    pairs = zip(problem.objective.goals, problem.vector(begun).tolist(), problem.vector(there).tolist(), strict=True)
    off = [(off_by(a, goal.range), off_by(b, goal.range)) for goal, a, b in pairs]
    return any(before <= OUT < after for before, after in off)
