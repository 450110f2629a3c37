"""Rows worked on side by side by a few threads: for compiled loops, which leave the interpreter's lock alone."""

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

WORKERS = 2


def beside(fill: Callable[[slice], object], count: int, worth: int = 1) -> None:
    """Call ``fill`` with WORKERS slices of 0..count at the same time; with one slice where there are fewer rows than are worth sharing."""
    if count < worth:
        fill(slice(0, count))
        return
    edges = np.linspace(0, count, WORKERS + 1).astype(int)
    with ThreadPoolExecutor(WORKERS) as pool:
        list(pool.map(fill, map(slice, edges[:-1], edges[1:])))
