"""What a solution tells: what each deed serves, and which bound holds back what was not reached."""

import re
from collections.abc import Sequence

import numpy as np

from arkund.core.autokit.levers import Means
from arkund.core.autokit.objective import Goal
from arkund.core.autokit.solver import Solution
from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ, octave_key
from arkund.core.card.targets import GAINS, off_by, range_words, shown
from arkund.core.findings import capital

NO_GAIN_ALONE = "It balances the other moves; on its own it brings no figure closer to its range."
IN_CALMEST = " in the calmest part"
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
        if now is not None and any(each.lever.is_for(goal.key) for each in means):
            gains.append((goal.missed(now - brought) - goal.missed(now), goal, now - brought, now))
    best = sorted((each for each in gains if each[0] > TOLD), key=lambda each: -each[0])[:MOST_SERVED]
    return f"For {'; '.join(_told(goal, was, now) for _, goal, was, now in best)}." if best else NO_GAIN_ALONE


def held(means: Sequence[Means], solution: Solution) -> list[str]:
    """Return what was not reached, in sentences: by how much, and what stands in the way: the levers at their bounds that would still help, or what a free one
    that helps more would push out of its range.
    """
    by_key, out = {each.lever.key: each for each in means}, []
    means = [by_key[lever.key] for lever in solution.levers]
    for number, goal in _furthest(solution):
        now, where = _worst(goal, solution.figures[goal.key])
        bound, free = _helping(solution, number, 1.0 if now < goal.low else -1.0)
        ends = "nothing within bounds improves it without costing more elsewhere"
        if free and (not bound or free[0][0] > bound[0][0]):
            _, k, by = free[0]
            if costs := _pushed_out(solution, goal, k, by):
                ends = f"more of {_name(means[k])} would take {costs} out of its range"
        elif bound:
            ends = f"limited by {', '.join(_deed(means[k], by) for _, k, by in bound[:MOST_HELD])}"
        words, unit = NAMES[goal.key]
        out.append(
            f"{capital(words)} {shown(goal.key, now)} {unit}{where}, target {range_words((goal.low, goal.high))}: {ends}."
        )
    return out


def _worst(goal: Goal, now: float) -> tuple[float, str]:
    """Return a figure in the part where it misses its range by most, and in words where that is, "" for the busiest."""
    calm, target = now + goal.calm_by, (goal.low, goal.high)
    return (calm, IN_CALMEST) if off_by(calm, target) > off_by(now, target) else (now, "")


def _helping(
    solution: Solution, number: int, sign: float
) -> tuple[list[tuple[float, int, float]], list[tuple[float, int, float]]]:
    """Return the levers that bring a figure up (sign 1) or down, most first: those at their bounds, and those that are free, each with what its step helps, its
    number, and which way it goes.
    """
    bound, free = [], []
    for k, (lever, value) in enumerate(zip(solution.levers, solution.values.tolist(), strict=True)):
        helps = sign * float(solution.response[number, k])
        edge = lever.high if helps > 0.0 else lever.low
        if abs(helps) <= HELPS or edge == lever.start or not lever.is_for(solution.objective.goals[number].key):
            continue
        row = (abs(helps) * lever.step, k, lever.step if helps > 0.0 else -lever.step)
        (bound if value == edge else free).append(row)
    return sorted(bound, reverse=True), sorted(free, reverse=True)


def _pushed_out(solution: Solution, goal: Goal, k: int, by: float) -> str:
    """Return, in words, which other figure misses most where a lever goes on by a step; "" where none does."""
    misses = []
    for other, answers in zip(solution.objective.goals, solution.response[:, k].tolist(), strict=True):
        now = solution.figures.get(other.key)
        if now is not None and other.key != goal.key:
            misses.append((other.missed(now + answers * by) - other.missed(now), other.key))
    most, key = max(misses, default=(0.0, ""))
    return NAMES[key][0] if most > TOLD else ""


def _deed(means: Means, by: float) -> str:
    return title(means.strip, [means.deed(means.lever.high if by > 0.0 else means.lever.low, means.lever.start)])


def _name(means: Means) -> str:
    """Return a lever's deed without its value."""
    return re.sub(r"( takes)? [+\-\u2212]?[\d.]+ dB.*$", "", _deed(means, means.lever.step))


def title(strip: str, deeds: Sequence[str]) -> str:
    """Return what is done at a strip as a title."""
    return f"{strip} {'; '.join(deeds)}"


def _furthest(solution: Solution) -> list[tuple[int, Goal]]:
    """Return the goals that are missed, by their numbers; of those that share a name the furthest off alone."""
    found: dict[str, tuple[float, int, Goal]] = {}
    for number, goal in enumerate(solution.objective.goals):
        off = off_by(solution.figures.get(goal.key), goal.range)
        if off > max(TOLD, found.get(goal.name, (0.0,))[0]):
            found[goal.name] = off, number, goal
    return [(number, goal) for _, number, goal in found.values()]


def _told(goal: Goal, was: float, now: float) -> str:
    words, unit = NAMES[goal.key]
    target = range_words((goal.low, goal.high))
    return f"{words} {shown(goal.key, was)} → {shown(goal.key, now)} {unit} (target {target})"
