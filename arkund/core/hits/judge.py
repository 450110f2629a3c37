"""The judge of candidates: two sets of decision trees, grown on generated kits of every kind (``tools/teach_judge.py``).

The first weighs what the mics heard; the second also what is left of it once the strokes that the first is sure of are accounted for.
"""

from functools import cache
from importlib.resources import files

import numpy as np

from arkund.core.hits import evidence
from arkund.core.trees.trees import Trees

WORTH_ASKING = 0.004  # below this sureness at first hearing a candidate is not asked again


@cache
def trees() -> tuple[Trees, Trees]:
    """Return the two sets that ship with the application."""
    with (files("arkund.core.hits") / "judge.npz").open("rb") as file, np.load(file) as table:
        first, second = (
            Trees(*(table[f"{stage}_{name}"] for name in Trees.__dataclass_fields__)) for stage in ("first", "second")
        )
    return first, second


def judge(s: evidence.Scene, both: tuple[Trees, Trees] | None = None) -> np.ndarray:
    """Return how sure it is that each candidate is a stroke of its piece, 0..1."""
    first, second = both or trees()
    heard = evidence.heard(s)
    sure = first.sure(heard)
    explained = evidence.explained(s, sure)
    worth = sure >= WORTH_ASKING
    sure[worth] = second.sure(np.hstack([heard[worth], explained[worth]]))
    return sure
