"""The print of a piece: the power that one of its strokes leaves in every mic and band over time, against its power in its own mic.

Prints are learnt from the recording at hand, from the strokes that the judge is already sure of, those first that no other piece disturbs.
"""

from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from arkund.core.beside import shared
from arkund.core.hits import _kernels
from arkund.core.hits._kernels import AFTER, BEFORE

SURE = 0.7  # a stroke teaches when the judge is this sure
DISTURBS = 0.3  # another piece's stroke this likely disturbs
DISTURBED_FROM, DISTURBED_TO = -25, 30  # frames around a stroke that must be free of others
OWN_SHORT = 12  # frames over which a stroke's own power is taken
LEARN_MOST = 40
ALONE_LEAST = 3  # fewer undisturbed strokes than these: all are used, with a lower quantile
ALONE_QUANTILE, MIXED_QUANTILE = 0.5, 0.35  # what else sounds at the same time only ever adds
TRUST_BEST = 5


@dataclass(frozen=True, slots=True)
class Prints:
    """Prints of all pieces, and how well each is known."""

    shape: np.ndarray  # float32 [shape=(pieces, BEFORE + AFTER, mics, bands)], own power = 1
    learnt: np.ndarray  # strokes that the judge was sure of, by piece
    alone: np.ndarray  # those of them that were undisturbed
    trust: np.ndarray  # mean sureness of the piece's TRUST_BEST surest
    full: np.ndarray  # power of its stronger strokes

    @property
    def sums(self) -> np.ndarray:
        """The prints added up over time from nothing on [shape=(pieces, BEFORE + AFTER + 1, mics, bands)]."""
        return np.cumsum(np.pad(self.shape, ((0, 0), (1, 0), (0, 0), (0, 0))), axis=1, dtype=np.float64)


def learn(power: np.ndarray, frames, pieces, sure, kept, first) -> Prints:
    """Learn the prints of all pieces from candidates.

    power : [shape=(frames, mics, bands)]; frames, pieces, sure (0..1), kept (bool) : one value per candidate; first : own mic by piece
    """
    count = len(first)
    shape = np.zeros((count, BEFORE + AFTER, *power.shape[1:]), np.float32)
    learnt, alone, trust, full = np.zeros((4, count))
    likely = np.flatnonzero(kept & (sure > DISTURBS))

    def one(piece: int) -> None:
        mine = np.flatnonzero(kept & (pieces == piece))
        trust[piece] = np.sort(sure[mine])[-TRUST_BEST:].sum() / TRUST_BEST
        mine = mine[(sure[mine] > SURE) & (frames[mine] >= 20) & (frames[mine] + AFTER < power.shape[0])]
        if mine.size == 0:
            return
        others = frames[likely[pieces[likely] != piece]]
        free = _free(others, frames[mine])
        learnt[piece], alone[piece] = mine.size, free.sum()
        enough = free.sum() >= ALONE_LEAST
        shape[piece], full[piece] = _one(
            power, frames[mine[free] if enough else mine], first[piece], ALONE_QUANTILE if enough else MIXED_QUANTILE
        )

    shared(one, range(count))
    return Prints(shape, learnt, alone, trust, full)


def _free(others: np.ndarray, frames: np.ndarray) -> np.ndarray:
    """Return at which frames no other stroke disturbs; the others are in order of time."""
    following = np.searchsorted(others, frames + DISTURBED_FROM, side="right")
    return np.append(others, np.iinfo(np.int64).max)[following] >= frames + DISTURBED_TO


def _one(power: np.ndarray, frames: np.ndarray, mic: int, quantile: float) -> tuple[np.ndarray, float]:
    """Return a piece's print by its strokes, and the power of the stronger ones."""
    own = _added(power[:, mic : mic + 1], frames)
    levels = own[:, BEFORE : BEFORE + OWN_SHORT, 0].mean(axis=1).sum(axis=1) + 1e-12
    strongest = np.argsort(levels)[::-1][:LEARN_MOST]
    chosen = _added(power, frames[strongest]) / levels[strongest, None, None, None]
    out = np.quantile(chosen, quantile, axis=0)
    out[:, mic] = np.median(chosen[:, :, mic], axis=0)
    return out, float(np.median(levels[strongest[: max(len(strongest) // 2, 1)]]))


def _added(power: np.ndarray, frames: np.ndarray) -> np.ndarray:
    """Return what each stroke adds to what sounded before it [shape=(strokes, BEFORE + AFTER, mics, bands)]."""
    around = sliding_window_view(power, BEFORE + AFTER, axis=0)[frames - BEFORE]
    before = sliding_window_view(power, OWN_SHORT - 1, axis=0)[frames - OWN_SHORT]
    return np.maximum(np.moveaxis(around - before.max(axis=-1, keepdims=True), -1, 1), 0.0)


def heights(power: np.ndarray, prints: Prints, frames, pieces, first, asked) -> tuple[np.ndarray, np.ndarray]:
    """Return how strong each candidate asked about (by number) is against its print, and by how many dB its bands disagree; the others have none."""
    height, spread = np.zeros((2, frames.size))
    _kernels.heights(power, prints.sums, frames, pieces, asked, first, prints.learnt, height, spread)
    return height, spread
