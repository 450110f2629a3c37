"""What a solution tells: what each deed serves, and which bound holds back what was not reached."""

from collections.abc import Sequence

import numpy as np

from arkund.core.autokit.levers import Means
from arkund.core.autokit.objective import Row
from arkund.core.autokit.solver import Solution
from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ, octave_key
from arkund.core.card.targets import CHANGES, GAINS, INF

TOLD = 0.05  # of a miss; less is none
HELPS = 0.05  # of a figure's unit by a lever's: less holds nothing back
MOST_SERVED, MOST_HELD = 2, 3
NAMES = {row.figure.key: (row.figure.words, row.figure.unit) for row in (*GAINS, *COSTS)}
NAMES |= {octave_key(hz): (f"slope at {hz:g} Hz", "dB") for hz in SLOPE_HZ}


def served(means: Sequence[Means], solution: Solution) -> str:
    """Return which figures some levers brought nearer to their ranges, most first: where they would be without them, and are."""
    keys = [lever.key for lever in solution.levers]
    numbers = [keys.index(each.lever.key) for each in means]
    by = sum(
        (solution.response[:, k] * (solution.values[k] - solution.levers[k].start) for k in numbers),
        np.zeros(len(solution.objective.rows)),
    )
    gains = []
    for row, brought in zip(solution.objective.rows, by.tolist(), strict=True):
        now = solution.figures.get(row.key)
        if now is not None:
            gains.append((row.missed(now - brought) - row.missed(now), row, now - brought, now))
    best = sorted((each for each in gains if each[0] > TOLD), key=lambda each: -each[0])[:MOST_SERVED]
    return f"For {'; '.join(_told(row, was, now) for _, row, was, now in best)}." if best else ""


def held(means: Sequence[Means], solution: Solution) -> list[str]:
    """Return what was not reached, in sentences: by how much, and the levers at their bounds that would still help."""
    titles = {each.lever.key: each.title for each in means}
    out = []
    for number, row in _furthest(solution):
        now = solution.figures[row.key]
        wanted = row.low if now < row.low else row.high
        sign = 1.0 if now < row.low else -1.0
        at_bound = []
        for k, lever in enumerate(solution.levers):
            helps = sign * float(solution.response[number, k])
            edge = lever.high if helps > 0.0 else lever.low
            if abs(helps) > HELPS and solution.values[k] == edge != lever.start:
                at_bound.append((abs(helps) * lever.step, titles[lever.key](edge)))
        words, unit = NAMES[row.key]
        by = ", ".join(title for _, title in sorted(at_bound, reverse=True)[:MOST_HELD])
        ends = (
            f"held by the bounds of: {by}"
            if by
            else "no lever within its bounds brings it nearer at less than it costs others"
        )
        out.append(f"{words} {_shown(row, now)} {unit}, wanted {_shown(row, wanted)}: {ends}.")
    return out


def _furthest(solution: Solution) -> list[tuple[int, Row]]:
    """Return the rows that are missed, by their numbers; of those that share a name the furthest off alone."""
    found: dict[str, tuple[float, int, Row]] = {}
    for number, row in enumerate(solution.objective.rows):
        value = solution.figures.get(row.key)
        off = 0.0 if value is None else max(row.low - value, value - row.high)
        name = row.shares or row.key
        if off > TOLD and off > found.get(name, (0.0,))[0]:
            found[name] = off, number, row
    return [(number, row) for _, number, row in found.values()]


def _told(row: Row, was: float, now: float) -> str:
    words, unit = NAMES[row.key]
    low, high = row.low, row.high
    wanted = f"{low:g} at least" if high == INF else f"{high:g} at most" if low == -INF else f"{low:g} to {high:g}"
    return f"{words} {_shown(row, was)} → {_shown(row, now)} {unit} (wanted {wanted})"


def _shown(row: Row, value: float) -> str:
    return f"{value:+.1f}" if row.key in CHANGES else f"{value:.1f}"
