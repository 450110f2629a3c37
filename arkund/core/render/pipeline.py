"""A bank of mics through its stages in short pieces, so that what one stage leaves is still near the processor when the next one takes it.

Where workers are given, the stages run side by side: while a piece is in one stage, the piece before it is in the next.
"""

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass
from time import sleep

import numpy as np

from arkund.core.beside import together
from arkund.core.dsp.bank import BLOCK, separate
from arkund.core.render.strips import Strips

PIECE = 256 * BLOCK  # rows: 512 kB of four lanes, which a processor keeps near


@dataclass(frozen=True, slots=True)
class Step:
    """One stage of a bank, in place: where it begins, and where each lane begins in what it gives; before, the lane is silent."""

    strips: Strips
    begins: int  # row
    lanes_begin: Sequence[int]  # rows
    kept: Sequence[np.ndarray | None]  # of each lane, filled with what the stage gives; None for what nobody keeps

    def run(self, bank: np.ndarray, start: int, stop: int) -> None:
        """Process the rows from one to another; those before were processed."""
        start = max(start, self.begins)
        if start >= stop:
            return
        piece = self.strips.run(bank[start : stop + self.strips.ahead])
        late = [min(max(first - start, 0), stop - start) for first in self.lanes_begin]
        unused = np.empty(stop - start, np.float32)
        rows = []
        for lane, (count, first, kept) in enumerate(zip(late, self.lanes_begin, self.kept, strict=True)):
            piece[:count, lane] = 0.0
            rows.append(unused[count:] if kept is None else kept[start + count - first :][: stop - start - count])
        separate(piece, rows, late)


class Pipeline:
    """A bank's way through its steps, piece after piece."""

    def __init__(self, steps: Sequence[Step], bank: np.ndarray, check: Callable[[], None]) -> None:
        self._steps, self._bank, self._check = steps, bank, check
        self._stop = bank.shape[0] - steps[0].strips.ahead  # the rest is only looked ahead at
        self._pieces = -(-self._stop // PIECE)
        self._done = [0] * len(steps)  # pieces
        self._free = [True] * len(steps)
        self._lock = threading.Lock()

    def run(self, executor: Executor | None) -> None:
        """Run all rows through all steps, those of different steps side by side where workers are given. Raises what ``check`` does."""
        together(self._work, executor, len(self._steps) - 1)

    def _work(self) -> None:
        while self._done[-1] < self._pieces:
            self._check()
            number = self._next()
            if number is None:
                sleep(0)  # the piece that is waited for takes a millisecond or two: no time to sleep
                continue
            piece = self._done[number]
            try:
                self._steps[number].run(self._bank, piece * PIECE, min((piece + 1) * PIECE, self._stop))
            except BaseException:
                self._pieces = 0  # nobody waits for it
                raise
            self._done[number] += 1
            self._free[number] = True

    def _next(self) -> int | None:
        """Return and occupy the first step that has a piece to work on."""
        with self._lock:
            for number, done in enumerate(self._done):
                given = self._done[number - 1] if number else self._pieces
                if self._free[number] and done < given:
                    self._free[number] = False
                    return number
            return None
