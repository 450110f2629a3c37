"""Rendered spans by node key, bounded in bytes: what was heard last stays longest."""

import threading
from collections import OrderedDict

import numpy as np

DEFAULT_BYTES = 768 * 1024 * 1024


class SpanCache:
    """Rendered spans of nodes. A lookup is answered by any kept span that contains the wanted one."""

    def __init__(self, most_bytes: int = DEFAULT_BYTES) -> None:
        self._most, self._bytes = most_bytes, 0
        self._spans: OrderedDict[tuple[str, int, int], np.ndarray] = OrderedDict()
        self._by_key: dict[str, set[tuple[str, int, int]]] = {}
        self._lock = threading.Lock()
        self.hits = self.misses = 0

    def get(self, key: str, start: int, stop: int) -> np.ndarray | None:
        """Return the span of a node, or None where it was not rendered yet. The array must not be written to."""
        with self._lock:
            for place in self._by_key.get(key, ()):
                if place[1] <= start and stop <= place[2]:
                    self._spans.move_to_end(place)
                    self.hits += 1
                    return self._spans[place][start - place[1] : stop - place[1]]
            self.misses += 1
            return None

    def put(self, key: str, start: int, stop: int, audio: np.ndarray) -> None:
        """Keep a rendered span; the oldest unused ones go when the bound is passed."""
        with self._lock:
            place = (key, start, stop)
            if place in self._spans or audio.nbytes > self._most:
                return
            self._spans[place] = audio
            self._by_key.setdefault(key, set()).add(place)
            self._bytes += audio.nbytes
            while self._bytes > self._most:
                old, gone = self._spans.popitem(last=False)
                self._bytes -= gone.nbytes
                self._by_key[old[0]].discard(old)
                if not self._by_key[old[0]]:
                    del self._by_key[old[0]]

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._spans.clear()
            self._by_key.clear()
            self._bytes = 0
