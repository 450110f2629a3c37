"""The judge of candidates: two sets of decision trees, grown on generated kits of every kind (``tools/teach_judge.py``).

The first weighs what the mics heard; the second also what is left of it once the strokes that the first is sure of are accounted for.

References
    J. Friedman, Greedy function approximation: a gradient boosting machine (2001): how the trees are grown.
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from importlib.resources import files

import numpy as np

from arkund.core.hits import _kernels, evidence
from arkund.core.hits.bands import WORKERS

WORTH_ASKING = 0.004  # below this sureness at first hearing a candidate is not asked again


@dataclass(frozen=True, slots=True)
class Trees:
    """Boosted trees, all nodes in one table; a leaf has feature -1 and its value is added to the log-odds."""

    roots: np.ndarray
    feature: np.ndarray
    threshold: np.ndarray
    left: np.ndarray
    right: np.ndarray
    value: np.ndarray

    def sure(self, measures: np.ndarray) -> np.ndarray:
        """Return the probability that each row is a hit [measures: float32, shape=(candidates, measures)]."""
        odds = np.zeros(measures.shape[0])
        nodes = (self.roots, self.feature, self.threshold, self.left, self.right, self.value)
        parts = zip(np.array_split(measures, WORKERS), np.array_split(odds, WORKERS), strict=True)
        with ThreadPoolExecutor(WORKERS) as pool:
            list(pool.map(lambda part: _kernels.tree_sums(part[0], *nodes, part[1]), parts))
        return 1.0 / (1.0 + np.exp(-odds))


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
