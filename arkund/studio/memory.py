"""How much memory the process may take, how it is shared out, and how the C library deals with what was freed.

One budget for the process: ``ARKUND_MEMORY`` in MB, or a quarter of the machine's memory (of the container's where that is less). What grows with use has a
share of it: kept spans and renderings under way. The rest is for the program itself, prints and answers on their way out.
"""

import ctypes
import os
import platform
from contextlib import suppress
from pathlib import Path

import psutil

SHARE_OF_MACHINE = 0.25
LEAST_BYTES = 512 << 20  # with less nothing can be worked on
KEPT_SPANS, UNDER_WAY, KEPT_FREE = 0.25, 0.3, 0.1  # shares of the budget
MOST_KEPT_SPANS = 768 << 20  # more is not asked for again
LARGEST_KEPT = 32 << 20  # bytes of one array, the most that glibc allows; larger ones always go back
STEP = 64 << 20  # bytes that are asked for at a time
CGROUP_LIMITS = ("/sys/fs/cgroup/memory.max", "/sys/fs/cgroup/memory/memory.limit_in_bytes")
# The parameters of mallopt(3).
TRIM_THRESHOLD, TOP_PAD, MMAP_THRESHOLD, ARENA_MAX = -1, -2, -3, -8


def budget_bytes() -> int:
    """Return how much memory the process may take."""
    given = os.environ.get("ARKUND_MEMORY", "")
    if given.isdecimal() and given.isascii():
        return max(int(given) << 20, LEAST_BYTES)
    return max(int(SHARE_OF_MACHINE * _machine_bytes()), LEAST_BYTES)


def _machine_bytes() -> int:
    limits = [psutil.virtual_memory().total]
    for path in CGROUP_LIMITS:
        with suppress(OSError, ValueError):
            limits.append(int(Path(path).read_text()))
    return min(limits)


def kept_spans_bytes(budget: int) -> int:
    """Return how much of the budget rendered spans may take that are kept to be asked for again."""
    return min(int(KEPT_SPANS * budget), MOST_KEPT_SPANS)


def under_way_bytes(budget: int) -> int:
    """Return how much of the budget renderings under way may take together."""
    return int(UNDER_WAY * budget)


def alone_bytes(budget: int) -> int:
    """Return how much of the budget a rendering may take that is under way by itself, because it does not fit into the share of several."""
    return int((1.0 - KEPT_SPANS - KEPT_FREE) * budget)


def keep_freed(budget: int) -> bool:
    """Let the process keep some of what it frees, for its next arrays; say whether it does.

    Each rendering frees as many megabytes as the next one needs. By default glibc gives them back in between, and every page that comes anew is cleared
    by the system first: a tenth of an audition, a fifth of a print. One arena, so that threads find what others freed. Other C libraries are left alone.
    """
    if platform.libc_ver()[0] != "glibc":
        return False
    kept = min(int(KEPT_FREE * budget), 1 << 30)
    settings = ((ARENA_MAX, 1), (MMAP_THRESHOLD, LARGEST_KEPT), (TRIM_THRESHOLD, kept), (TOP_PAD, min(STEP, kept)))
    taken = [ctypes.CDLL(None).mallopt(*each) for each in settings]
    return all(taken)


def give_back() -> bool:
    """Give all that was freed back to the system, before long work that takes other sizes than what came before it; say whether anything went.

    What auditions freed is of no use to a print, and would stand beside it.
    """
    return platform.libc_ver()[0] == "glibc" and bool(ctypes.CDLL(None).malloc_trim(0))
