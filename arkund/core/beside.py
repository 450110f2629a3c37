"""Work done side by side by a few threads: for compiled loops, which leave the interpreter's lock alone.

Whoever has work begins with it at once, and helpers take from what is left: one that wakes late, or has other work, costs nothing.
"""

import os
from collections.abc import Callable, Iterable
from concurrent.futures import Executor, ThreadPoolExecutor

import numpy as np

WORKERS = max(os.cpu_count() or 1, 2)
HELPERS = WORKERS - 1
_helpers = ThreadPoolExecutor(HELPERS, thread_name_prefix="beside")


def together(work: Callable[[], object], executor: Executor | None = _helpers, most: int = HELPERS) -> None:
    """Call ``work``, which takes pieces until none is left, here and in at most so many threads of an executor, and return when all are done.

    Where one fails, its exception is raised after the others have ended.
    """
    others = [executor.submit(work) for _ in range(min(most, HELPERS))] if executor else []
    try:
        work()
    finally:
        for other in others:
            if not other.cancel():
                other.result()


def shared(do: Callable, tasks: Iterable, executor: Executor | None = _helpers) -> list:
    """Return what ``do`` gives for each task, in their order."""
    tasks = list(tasks)
    results, places = [None] * len(tasks), iter(range(len(tasks)))

    def work() -> None:
        for place in places:
            results[place] = do(tasks[place])

    together(work, executor, len(tasks) - 1)
    return results


def at_once(*works: Callable[[], object], executor: Executor | None = _helpers) -> list:
    """Return what each of some works gives."""
    return shared(lambda work: work(), works, executor)


def by_slices(fill: Callable[[slice], object], count: int, worth: int = 1) -> None:
    """Call ``fill`` with a slice of 0..count for each thread; with one slice where there are fewer rows than are worth sharing."""
    edges = np.linspace(0, count, WORKERS + 1 if count >= worth else 2).astype(int)
    shared(fill, map(slice, edges[:-1], edges[1:]))
