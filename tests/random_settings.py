"""Settings drawn from the whole of their ranges, the ends included."""

import math

import numpy as np

from arkund.core.settings import Range, Settings, hints_of
from arkund.core.tools.tone import MOST_SHELF_Q, PASSES, SHAPES, SHELVES, Band

AT_AN_END = 0.1  # how often a number stands at its lower end, and at its upper one
WIDE = 50.0  # ranges of so many times their lower end are drawn by ratio


def drawn(cls: type[Settings], rng: np.random.Generator, **given) -> Settings:
    """Return settings with every number drawn from its range, and every choice from its options; what is given, and all else, stays."""
    whole = {key for key, hint in hints_of(cls).items() if hint is int}
    numbers = {key: number_of(each, rng, key in whole) for key, each in cls.ranges().items() if key not in given}
    options = {key: str(rng.choice(each)) for key, each in cls.choices().items() if key not in given}
    return cls(**numbers, **options, **given)


def number_of(field: Range, rng: np.random.Generator, whole: bool) -> float | int:
    """Return a number from a range, one of its steps where it is a whole one."""
    end = rng.random()
    if end < AT_AN_END:
        value = field.low
    elif end < 2 * AT_AN_END:
        value = field.high
    elif field.low > 0 and field.high / field.low >= WIDE:
        value = math.exp(rng.uniform(math.log(field.low), math.log(field.high)))
    else:
        value = rng.uniform(field.low, field.high)
    if whole:
        return int(field.low + round((value - field.low) / field.step) * field.step)
    return min(max(value, field.low), field.high)


def drawn_band(rng: np.random.Generator) -> Band:
    """Return a band of any kind; a shelf's Q is limited."""
    kind = str(rng.choice(SHAPES))
    limited: dict[str, float] = {}
    if kind in SHELVES:
        limited["q"] = float(rng.uniform(Band.ranges()["q"].low, MOST_SHELF_Q))
    if kind in PASSES and rng.random() < 0.5:
        limited["slope_db"] = int(6 * rng.integers(2, 9))
    else:
        limited["resonance_db"] = 0.0
    if kind in PASSES or kind == "bump" or rng.random() < 0.4:
        limited["range_db"] = 0.0
    return drawn(Band, rng, kind=kind, on=True, compensated=bool(rng.random() < 0.5), **limited)
