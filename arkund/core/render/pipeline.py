"""A bank through its tools in short pieces, so that what one tool leaves is still near the processor when the next one takes it.

A tool that looks ahead leaves the last samples as they are; the one behind it ends that much earlier. Where workers are given, the tools run side by side:
while a piece is in one, the piece before it is in the next.
"""

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from time import sleep

import numpy as np

from arkund.core.beside import together
from arkund.core.dsp.bank import BLOCK, NARROW
from arkund.core.render.banks import Bank

PIECE = 128 * BLOCK  # rows of sixteen lanes, a megabyte, which a processor keeps near
Done = Callable[[int, int, int], None]  # what is to happen when a tool is done with rows from one to another


def nothing(place: int, start: int, stop: int) -> None:
    """Keep nothing."""


class Pipeline:
    """A bank's way through its tools, piece after piece.

    begins : the row at which each tool begins; done : called with a tool's place and the rows that it has just done
    """

    def __init__(
        self,
        bank: Bank,
        audio: np.ndarray,
        begins: Sequence[int],
        check: Callable[[], None],
        done: Done = nothing,
        keys: Sequence[np.ndarray | None] = (),
    ) -> None:
        self._runs, self._audio, self._check, self._kept = bank.runs, audio, check, done
        self._keys = keys or [None] * len(bank.runs)
        self._begins = begins
        self._behind = bank.behind
        self._pieces = -(-audio.shape[0] // self._size()) if bank.runs else 0
        self._done = [0] * len(bank.runs)  # pieces
        self._free = [True] * len(bank.runs)
        self._lock = threading.Lock()

    def _size(self) -> int:
        return PIECE * (1 if self._audio.shape[1] > NARROW * 2 else 2)

    def run(self, executor: Executor | None = None) -> None:
        """Run all rows through all tools, those of different tools side by side where workers are given. Raises what ``check`` does."""
        if executor and len(self._runs) > 1:
            together(self._work, executor, len(self._runs) - 1)
            return
        for piece in range(self._pieces):
            self._check()
            for place in range(len(self._runs)):
                self._piece(place, piece)

    def _piece(self, place: int, piece: int) -> None:
        size, rows = self._size(), self._audio.shape[0]
        start = max(piece * size - self._behind[place], self._begins[place]) if piece else self._begins[place]
        stop = min((piece + 1) * size, rows) - self._behind[place]
        if stop <= start:
            return
        run, key = self._runs[place], self._keys[place]
        seen = slice(start, stop + run.ahead)
        run.run(self._audio[seen], stop - start, None if key is None else key[seen])
        self._kept(place, start, stop)

    def _work(self) -> None:
        while self._done[-1] < self._pieces:
            self._check()
            place = self._next()
            if place is None:
                sleep(0)  # the piece that is waited for takes a millisecond or two: no time to sleep
                continue
            try:
                self._piece(place, self._done[place])
            except BaseException:
                self._pieces = 0  # nobody waits for it
                raise
            self._done[place] += 1
            self._free[place] = True

    def _next(self) -> int | None:
        """Return and occupy the first tool that has a piece to work on."""
        with self._lock:
            for place, done in enumerate(self._done):
                given = self._done[place - 1] if place else self._pieces
                if self._free[place] and done < given:
                    self._free[place] = False
                    return place
            return None
