"""Mono strips added up in stereo: several sums at a time, because what takes longest is to read the strips."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import WIDE, widened
from arkund.core.plan.plan import MicPlan
from arkund.core.render.graph import PATHS
from arkund.core.units import db_to_gain

MOST_SUMS = 1 + len(PATHS)  # the mix, and what each path gets


@dataclass(frozen=True, slots=True)
class Share:
    """What a sum gets over a span: the gains to its left and right by mic."""

    gains: dict[str, tuple[float, float]]
    span: tuple[int, int]

    @classmethod
    def of(cls, mics: Sequence[MicPlan], levels_db: Sequence[float], span: tuple[int, int]) -> "Share":
        """Return mics at levels and their places."""
        gains = {}
        for mic, level_db in zip(mics, levels_db, strict=True):
            left, right = pan_gains(mic.mix.pan)
            gains[mic.id] = float(db_to_gain(level_db)) * left, float(db_to_gain(level_db)) * right
        return cls(gains, span)


def empty_sum(samples: int, count: int) -> np.ndarray:
    """Return room for the stereo sum of so many signals: it is filled by :func:`place`, and silent where there are none."""
    return np.empty((samples, 2), np.float32) if count else np.zeros((samples, 2), np.float32)


def placed(rows: Sequence[np.ndarray], gains: np.ndarray, length: int) -> np.ndarray:
    """Return the stereo sum of mono signals [each shape=(length,)] with their gains to the left and right [shape=(rows, 2)]."""
    out = empty_sum(length, len(rows))
    place(rows, gains[None], [out], [0])
    return out


def place(rows: Sequence[np.ndarray], gains: np.ndarray, outs: Sequence[np.ndarray], late: Sequence[int]) -> None:
    """Write a few stereo sums [each shape=(samples, 2)] of mono signals of one length, where they overlap.

    gains [shape=(sums, rows, 2)]: to the left and right of each; late: by how many samples each sum begins after the signals.
    """
    none = [np.empty((0, 2), np.float32)] * (MOST_SUMS - len(outs))
    flat = tuple(out.reshape(-1) for out in (*outs, *none))
    begins = (*map(int, late), *(0 for _ in none))
    for first in range(0, len(rows), WIDE):
        some = rows[first : first + WIDE]
        theirs = np.zeros((MOST_SUMS, WIDE, 2), np.float32)
        theirs[: len(outs), : len(some)] = gains[:, first : first + WIDE]
        _kernels.place(widened(some), len(some), theirs.reshape(MOST_SUMS, -1), begins, flat, first == 0)


def pan_gains(pan: float) -> tuple[float, float]:
    """Return left and right gain: equal power, 0 dB at the side, -3 dB in the middle."""
    angle = (pan + 1.0) * np.pi / 4.0
    return float(np.cos(angle)), float(np.sin(angle))
