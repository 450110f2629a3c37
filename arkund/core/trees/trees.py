"""Boosted trees as one table of nodes, grown with LightGBM by the teaching tools.

References
    J. Friedman, Greedy function approximation: a gradient boosting machine (2001): how the trees are grown.
"""

from dataclasses import dataclass, replace

import numpy as np

from arkund.core.beside import by_slices
from arkund.core.trees import _kernels

WORTH_SHARING = 64  # rows; fewer are weighed by one worker


@dataclass(frozen=True, slots=True)
class Trees:
    """Boosted trees, all nodes in one table; a leaf has feature -1 and its value is added to the log-odds."""

    roots: np.ndarray
    feature: np.ndarray
    threshold: np.ndarray
    left: np.ndarray
    right: np.ndarray
    value: np.ndarray

    def sums(self, measures: np.ndarray) -> np.ndarray:
        """Return what all trees say of each row together [measures: float32, shape=(rows, measures)]."""
        out = np.zeros(measures.shape[0])
        nodes = (self.roots, self.feature, self.threshold, self.left, self.right, self.value)
        by_slices(lambda part: _kernels.tree_sums(measures[part], *nodes, out[part]), out.size, WORTH_SHARING)
        return out

    def sure(self, measures: np.ndarray) -> np.ndarray:
        """Return the probability that each row is a yes, of trees that were grown to tell yes from no."""
        return probability(self.sums(measures))

    def sure_or_hopeless(self, measures: np.ndarray, glance: int, hopeless: float) -> np.ndarray:
        """Return the same, but only the first ``glance`` trees are asked about rows that they give log-odds below ``hopeless``."""
        sums = replace(self, roots=self.roots[:glance]).sums(measures)
        rest = np.flatnonzero(sums >= hopeless)
        sums[rest] += replace(self, roots=self.roots[glance:]).sums(np.ascontiguousarray(measures[rest]))
        return probability(sums)

    def every(self, first: int, step: int) -> "Trees":
        """Return every ``step``-th tree: those of one answer, where the trees of several lie in turn."""
        return replace(self, roots=np.ascontiguousarray(self.roots[first::step]))


def probability(log_odds: np.ndarray) -> np.ndarray:
    """Return the probability of a yes from its log-odds."""
    return 1.0 / (1.0 + np.exp(-log_odds))
