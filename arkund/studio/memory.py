"""How the process's C library deals with memory that was freed."""

import ctypes
import platform

MOST_KEPT = 1 << 30  # bytes; what is free beyond goes back to the system
LARGEST_KEPT = 32 << 20  # bytes of one array, the most that glibc allows; larger ones always go back
STEP = 64 << 20  # bytes that are asked for at a time
# The parameters of mallopt(3).
TRIM_THRESHOLD, TOP_PAD, MMAP_THRESHOLD, ARENA_MAX = -1, -2, -3, -8


def keep_freed() -> bool:
    """Let the process keep what it frees, for its next arrays; say whether it does.

    Each rendering frees as many megabytes as the next one needs. By default glibc gives them back in between, and every page that comes anew is cleared
    by the system first: a tenth of an audition, a fifth of a print. One arena, so that threads find what others freed. Other C libraries are left alone.
    """
    if platform.libc_ver()[0] != "glibc":
        return False
    settings = ((ARENA_MAX, 1), (MMAP_THRESHOLD, LARGEST_KEPT), (TRIM_THRESHOLD, MOST_KEPT), (TOP_PAD, STEP))
    taken = [ctypes.CDLL(None).mallopt(*each) for each in settings]
    return all(taken)
