"""The print of a piece: the power that one of its strokes leaves in every mic and band over time, against its power in its own mic.

Prints are learnt from the recording at hand, from the strokes that the judge is already sure of, those first that no other piece disturbs.
"""

from dataclasses import dataclass

import numpy as np

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
    for piece, mic in enumerate(first):
        mine = np.flatnonzero(kept & (pieces == piece))
        trust[piece] = np.sort(sure[mine])[-TRUST_BEST:].sum() / TRUST_BEST
        mine = mine[(sure[mine] > SURE) & (frames[mine] >= 20) & (frames[mine] + AFTER < power.shape[0])]
        if mine.size == 0:
            continue
        others = frames[likely[pieces[likely] != piece]]
        free = np.array([_free(others, frames[c]) for c in mine])
        learnt[piece], alone[piece] = mine.size, free.sum()
        enough = free.sum() >= ALONE_LEAST
        shape[piece], full[piece] = _one(
            power, frames[mine[free] if enough else mine], mic, ALONE_QUANTILE if enough else MIXED_QUANTILE
        )
    return Prints(shape, learnt, alone, trust, full)


def _free(others: np.ndarray, frame: int) -> bool:
    return not np.any((others > frame + DISTURBED_FROM) & (others < frame + DISTURBED_TO))


def _one(power: np.ndarray, frames: np.ndarray, mic: int, quantile: float) -> tuple[np.ndarray, float]:
    shapes, levels = [], []
    for frame in frames:
        rest = power[frame - OWN_SHORT : frame - 1].max(axis=0)
        added = np.maximum(power[frame - BEFORE : frame + AFTER] - rest, 0.0)
        level = float(added[BEFORE : BEFORE + OWN_SHORT, mic].mean(axis=0).sum()) + 1e-12
        shapes.append(added / level)
        levels.append(level)
    strongest = np.argsort(levels)[::-1][:LEARN_MOST]
    chosen = np.array([shapes[k] for k in strongest])
    out = np.quantile(chosen, quantile, axis=0)
    out[:, mic] = np.median(chosen[:, :, mic], axis=0)
    return out, float(np.median(np.array(levels)[strongest[: max(len(strongest) // 2, 1)]]))


def heights(power: np.ndarray, prints: Prints, frames, pieces, first, asked) -> tuple[np.ndarray, np.ndarray]:
    """Return how strong each candidate asked about (by number) is against its print, and by how many dB its bands disagree; the others have none."""
    height, spread = np.zeros((2, frames.size))
    _kernels.heights(power, prints.sums, frames, pieces, asked, first, prints.learnt, height, spread)
    return height, spread
