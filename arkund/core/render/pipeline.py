"""A bank through its tools in short pieces, so that what one tool leaves is still near the processor when the next one takes it.

A tool that looks ahead leaves the last samples as they are; the one behind it ends that much earlier. Where workers are given, tools run side by side: while a
piece is in one, the piece before it is in the next, and others are in those of other banks.
"""

import threading
from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from itertools import count
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
        side_by_side([self], executor)

    @property
    def tools(self) -> int:
        """How many may be at work at a time."""
        return len(self._runs)

    @property
    def finished(self) -> bool:
        """Say whether nothing is left to be begun or done."""
        return not self._runs or self._done[-1] >= self._pieces

    def go_on(self) -> bool:
        """Take one piece through the first tool that may have it; say whether there was one. Any number of threads may do so."""
        place = self._next()
        if place is None:
            return False
        try:
            self._check()
            self._piece(place, self._done[place])
        except BaseException:
            self.give_up()  # nobody waits for it
            raise
        self._done[place] += 1
        self._free[place] = True
        return True

    def give_up(self) -> None:
        """Begin nothing more."""
        self._pieces = 0

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

    def _next(self) -> int | None:
        """Return and occupy the last tool that has a piece to work on: what was just done is still near."""
        with self._lock:
            for place in reversed(range(len(self._runs))):
                given = self._done[place - 1] if place else self._pieces
                if self._free[place] and self._done[place] < given:
                    self._free[place] = False
                    return place
            return None


def side_by_side(pipelines: Sequence[Pipeline], executor: Executor | None = None) -> None:
    """Run several banks through their tools. Where workers are given, each begins with a bank of its own, whose pieces stay near its processor, and then takes
    what is left of the others.

    Where one fails, the others begin nothing more, and its exception is raised.
    """

    numbers = count()

    def work() -> None:
        mine = next(numbers) % max(len(pipelines), 1)
        order = [*pipelines[mine:], *pipelines[:mine]]
        try:
            while waiting := [each for each in order if not each.finished]:
                if not any(each.go_on() for each in waiting):
                    sleep(0)  # the piece that is waited for takes a millisecond or two: no time to sleep
        except BaseException:
            for each in pipelines:
                each.give_up()
            raise

    most = sum(each.tools for each in pipelines) - 1
    together(work, executor if most > 0 else None, most)
