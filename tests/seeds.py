"""Which seeds of a generated test run with every change."""

import pytest


def seeds(first: int, *others: int) -> list:
    """Return seeds for ``parametrize``: the first runs with every change, the others with those that take long."""
    return [first, *(pytest.param(seed, marks=pytest.mark.long) for seed in others)]
