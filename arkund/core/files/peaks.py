"""Waveform pictures: the lowest and highest sample of each stretch, at a few zooms, as signed bytes."""

import numpy as np

from arkund.core.dsp import _drawing
from arkund.core.dsp.bank import WIDE

LEVELS = (256, 1024, 4096)  # samples per column
BLOCK = 1 << 20


class Columns:
    """The pictures of channels side by side that arrive in pieces; memory grows by a pair of bytes per column of the finest zoom."""

    def __init__(self, count: int) -> None:
        self._count, self._rest = count, np.zeros((0, 0), np.float32)
        self._fine: list[np.ndarray] = []

    def add(self, bank: np.ndarray) -> None:
        """Add audio, a bank or a single channel [float32, shape=(samples, width), contiguous]; of its channels the first ``count`` are used."""
        part = np.concatenate([self._rest, bank]) if self._rest.shape[0] else bank
        whole = part.shape[0] // LEVELS[0] * LEVELS[0]
        self._rest = part[whole:].copy()
        if whole:
            self._keep(part[:whole])

    def _keep(self, part: np.ndarray) -> None:
        width = part.shape[1]
        bank = part.reshape(-1, WIDE) if width == 1 else part  # of a single channel many samples go at a time
        low, high = np.empty((2, part.shape[0] // LEVELS[0], bank.shape[1]), np.float32)
        rows = LEVELS[0] * width // bank.shape[1]
        _drawing.BANKS[bank.shape[1]].extremes(bank.reshape(-1), rows, low.reshape(-1), high.reshape(-1))
        low, high = (some.reshape(low.shape[0], -1, width)[:, :, : self._count] for some in (low, high))
        self._fine.append(_bytes(low.min(axis=1), high.max(axis=1)))

    def levels(self) -> list[dict[int, np.ndarray]]:
        """Return for each channel and level int8 [shape=(columns, 2)]: minimum and maximum, 127 = full scale.

        Values are rounded away from zero, so that a soft sound never vanishes. The end is taken as followed by silence.
        """
        if self._rest.shape[0]:
            self._keep(np.pad(self._rest, ((0, LEVELS[0] - self._rest.shape[0]), (0, 0))))
            self._rest = self._rest[:0]
        fine = np.concatenate(self._fine) if self._fine else np.zeros((0, self._count, 2), np.int8)
        return [{level: _coarser(fine[:, k], level // LEVELS[0]) for level in LEVELS} for k in range(self._count)]


def _bytes(low: np.ndarray, high: np.ndarray) -> np.ndarray:
    both = np.stack([np.floor(low * 127), np.ceil(high * 127)], axis=-1)
    return np.clip(both, -127, 127).astype(np.int8)


def _coarser(fine: np.ndarray, step: int) -> np.ndarray:
    columns = -(-fine.shape[0] // step)
    grouped = np.pad(fine, ((0, columns * step - fine.shape[0]), (0, 0))).reshape(columns, step, 2)
    return np.stack([grouped[:, :, 0].min(axis=1), grouped[:, :, 1].max(axis=1)], axis=1)


def samples(reader, start: int, stop: int) -> np.ndarray:
    """Return a span as it is drawn sample by sample, int16, 32767 = full scale [shape=(samples,)]."""
    return np.clip(np.round(reader.read(start, stop) * 32767.0), -32767, 32767).astype(np.int16)


def pyramid(reader) -> dict[int, np.ndarray]:
    """Return a mono recording's pictures by level: see :meth:`Columns.levels`."""
    columns = Columns(1)
    for start in range(0, reader.length, BLOCK):
        columns.add(reader.read(start, min(start + BLOCK, reader.length))[:, None])
    return columns.levels()[0]
