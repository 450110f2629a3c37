"""Threads that several users share: nobody has them all while somebody else waits or may come, and who has the fewest comes first."""

import threading
from collections import Counter
from collections.abc import Callable, Hashable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress


class FairPool:
    """A pool of ``size`` threads. A user gets all but one of them at most, without users (None) all."""

    def __init__(self, size: int, name: str) -> None:
        self._pool, self._size = ThreadPoolExecutor(size, thread_name_prefix=name), size
        self._lock, self._waiting = threading.Lock(), list[tuple[Hashable, Callable[[], None]]]()
        self._under_way: Counter[Hashable] = Counter()

    def submit(self, user: Hashable, work: Callable[[], None]) -> None:
        """Do some work of a user as soon as it is their turn."""
        with self._lock:
            self._waiting.append((user, work))
        self._pool.submit(self._next)

    def _next(self) -> None:
        """Do the next work, if anybody may have a thread just now; who may not is looked at again when something of theirs has ended."""
        with self._lock:
            fewest = min(
                (k for k, (user, _) in enumerate(self._waiting) if self._under_way[user] < self._most(user)),
                key=lambda k: (self._under_way[self._waiting[k][0]], k),
                default=None,
            )
            if fewest is None:
                return
            user, work = self._waiting.pop(fewest)
            self._under_way[user] += 1
        try:
            work()
        finally:
            with self._lock:
                self._under_way[user] -= 1
                left = bool(self._waiting)
            if left:
                with suppress(RuntimeError):  # the application is ending; the next start takes up what waits
                    self._pool.submit(self._next)

    def _most(self, user: Hashable) -> int:
        return self._size if user is None else max(self._size - 1, 1)
