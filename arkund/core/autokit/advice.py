"""What a solution tells: what each deed serves, and which bound holds back what was not reached."""

from collections.abc import Sequence

import numpy as np

from arkund.core.autokit.levers import Means
from arkund.core.autokit.objective import Goal
from arkund.core.autokit.solver import Solution
from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ, octave_key
from arkund.core.card.targets import GAINS, off_by, range_words, shown
from arkund.core.findings import capital

TOLD = 0.05  # of a miss; less is none
HELPS = 0.05  # of a figure's unit by a lever's: less holds nothing back
MOST_SERVED, MOST_HELD = 2, 3
NAMES = {row.figure.key: (row.figure.words, row.figure.unit) for row in (*GAINS, *COSTS)}
NAMES |= {octave_key(hz): (f"slope at {hz:g} Hz", "dB") for hz in SLOPE_HZ}


def served(means: Sequence[Means], solution: Solution) -> str:
    """Return which figures some levers brought nearer to their ranges, most first: where they would be without them, and are."""
    keys = [each.lever.key for each in means]
    moved = np.array([lever.key in keys for lever in solution.levers])
    by = solution.response @ np.where(moved, solution.values - [lever.start for lever in solution.levers], 0.0)
    gains = []
    for goal, brought in zip(solution.objective.goals, by.tolist(), strict=True):
        now = solution.figures.get(goal.key)
        if now is not None:
            gains.append((goal.missed(now - brought) - goal.missed(now), goal, now - brought, now))
    best = sorted((each for each in gains if each[0] > TOLD), key=lambda each: -each[0])[:MOST_SERVED]
    return f"For {'; '.join(_told(goal, was, now) for _, goal, was, now in best)}." if best else ""


def held(means: Sequence[Means], solution: Solution) -> list[str]:
    """Return what was not reached, in sentences: by how much, and the levers at their bounds that would still help."""
    deeds = {each.lever.key: title(each.strip, [each.deed(each.lever.high, each.lever.start)]) for each in means}
    deeds_low = {each.lever.key: title(each.strip, [each.deed(each.lever.low, each.lever.start)]) for each in means}
    out = []
    for number, goal in _furthest(solution):
        now = solution.figures[goal.key]
        rises = now < goal.low
        at_bound = []
        for lever, value, response in zip(solution.levers, solution.values, solution.response[number], strict=True):
            helps = float(response) if rises else -float(response)
            edge, words = (lever.high, deeds) if helps > 0.0 else (lever.low, deeds_low)
            if abs(helps) > HELPS and value == edge != lever.start:
                at_bound.append((abs(helps) * lever.step, words[lever.key]))
        by = ", ".join(words for _, words in sorted(at_bound, reverse=True)[:MOST_HELD])
        ends = f"limited by {by}" if by else "nothing within bounds improves it without costing more elsewhere"
        words, unit = NAMES[goal.key]
        out.append(
            f"{capital(words)} {shown(goal.key, now)} {unit}, target {range_words((goal.low, goal.high))}: {ends}."
        )
    return out


def title(strip: str, deeds: Sequence[str]) -> str:
    """Return what is done at a strip as a title."""
    return f"{strip} {'; '.join(deeds)}"


def _furthest(solution: Solution) -> list[tuple[int, Goal]]:
    """Return the goals that are missed, by their numbers; of those that share a name the furthest off alone."""
    found: dict[str, tuple[float, int, Goal]] = {}
    for number, goal in enumerate(solution.objective.goals):
        off = off_by(solution.figures.get(goal.key), (goal.low, goal.high))
        if off > max(TOLD, found.get(goal.name, (0.0,))[0]):
            found[goal.name] = off, number, goal
    return [(number, goal) for _, number, goal in found.values()]


def _told(goal: Goal, was: float, now: float) -> str:
    words, unit = NAMES[goal.key]
    target = range_words((goal.low, goal.high))
    return f"{words} {shown(goal.key, was)} → {shown(goal.key, now)} {unit} (target {target})"
