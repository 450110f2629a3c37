"""Strips added up in stereo, in order, each product rounded by itself: several sums at a time, because what takes longest is to read the strips."""

from collections.abc import Sequence

import numpy as np

from arkund.core.dsp import _mixing
from arkund.core.dsp.bank import WIDE, widened

MOST_SUMS = 4  # at a time
NONE = np.zeros((2, 0), np.float32)


def placed(rows: Sequence[np.ndarray], gains: Sequence[tuple[float, float]], length: int) -> np.ndarray:
    """Return the stereo sum [shape=(2, length)] of mono signals [each shape=(length,)] with their gains to the left and right."""
    out = empty_sum(length, len(rows))
    place(rows, [gains], [out], [0], [True])
    return out


def empty_sum(samples: int, count: int) -> np.ndarray:
    """Return room for the stereo sum of so many signals [shape=(2, samples)]: it is filled by :func:`place`, and silent where there are none."""
    return np.empty((2, samples), np.float32) if count else np.zeros((2, samples), np.float32)


def place(
    rows: Sequence[np.ndarray],
    gains: Sequence[Sequence[tuple[float, float]]],
    outs: Sequence[np.ndarray],
    late: Sequence[int],
    anew: Sequence[bool],
) -> None:
    """Write a few stereo sums [each shape=(2, samples)] of mono signals of one length, where they overlap.

    gains : of each sum, to the left and right of each signal; late : by how many samples each sum begins after the signals, before them where it is
    negative; anew : whether what it held there is forgotten
    """
    none = MOST_SUMS - len(outs)
    begins, fresh = np.array([*late, *[0] * none], np.int64), np.array([*anew, *[False] * none])
    for first in range(0, len(rows), WIDE):
        some = rows[first : first + WIDE]
        theirs = np.zeros((MOST_SUMS, 2 * WIDE), np.float32)
        for k, mine in enumerate(gains):
            theirs[k, : 2 * len(some)] = np.ravel(mine[first : first + WIDE])
        _mixing.place(widened(some), len(some), theirs, begins, (*outs, *[NONE] * none), fresh & (first == 0))


def alike(several: Sequence[Sequence]) -> list[list[int]]:
    """Return which sums (by their place among several lists of feeds) are best made together: those of about the same strips, a few at most."""
    strips = [{feed.strip for feed in feeds} for feeds in several]
    out: list[tuple[set[str], list[int]]] = []
    for number in sorted(range(len(strips)), key=lambda k: -len(strips[k])):
        for union, members in out:
            if len(members) < MOST_SUMS and 2 * len(strips[number] & union) >= len(union):
                union |= strips[number]
                members.append(number)
                break
        else:
            out.append((set(strips[number]), [number]))
    return [members for _, members in out]
