"""Whose rendering is next: few at a time, each client in its turn, and no more under way than there is memory for.

Whoever waits holds a thread of the server, nothing else. A client that asks again gives its former place up: see ``listening.overtaken``.
"""

import os
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from arkund.core.errors import BusyError, CancelledError

AT_ONCE = max(os.cpu_count() or 1, 2)
MOST_WAITING = 20  # of the server's threads; the others are for pages
LOOK_EVERY_S = 0.05


class Turns:
    """A row of clients who wait, each with the renderings that it asked for."""

    def __init__(self, most_bytes: int, at_once: int = AT_ONCE, most_waiting: int = MOST_WAITING) -> None:
        self._most_bytes, self._at_once, self._most_waiting = most_bytes, at_once, most_waiting
        self._changed = threading.Condition()
        self._waiting: OrderedDict[str, list[tuple[object, int]]] = OrderedDict()
        self._running = self._bytes = 0

    @contextmanager
    def turn(self, client: str, wanted_bytes: int, overtaken: Callable[[], bool] = lambda: False) -> Iterator[None]:
        """Wait for a client's turn, and render within it.

        Raises CancelledError where something newer was asked for meanwhile, BusyError where too many wait.
        """
        ticket = object()
        with self._changed:
            if sum(map(len, self._waiting.values())) >= self._most_waiting:
                raise BusyError("Too many listen at the same time; try again in a moment.")
            self._waiting.setdefault(client, []).append((ticket, wanted_bytes))
            try:
                while not self._is_next(client, ticket, wanted_bytes):
                    if overtaken():
                        raise CancelledError("Overtaken by a newer change.")
                    self._changed.wait(LOOK_EVERY_S)
            except BaseException:
                self._leave(client, ticket)
                raise
            self._leave(client, ticket)
            self._running, self._bytes = self._running + 1, self._bytes + wanted_bytes
        try:
            yield
        finally:
            with self._changed:
                self._running, self._bytes = self._running - 1, self._bytes - wanted_bytes
                self._changed.notify_all()

    def _is_next(self, client: str, ticket: object, wanted_bytes: int) -> bool:
        """Say whether a ticket is the first of the first client, and there is a place and memory for it (one alone always has)."""
        if next(iter(self._waiting)) != client or self._waiting[client][0][0] is not ticket:
            return False
        if self._running == 0:
            return True
        return self._running < self._at_once and self._bytes + wanted_bytes <= self._most_bytes

    def _leave(self, client: str, ticket: object) -> None:
        """Take a ticket out of the row; its client goes behind the others."""
        mine = [each for each in self._waiting.pop(client) if each[0] is not ticket]
        if mine:
            self._waiting[client] = mine
        self._changed.notify_all()
