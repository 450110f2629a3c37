"""Rendered spans by node key, in memory, bounded in bytes: what was heard last stays longest."""

import threading
from collections import OrderedDict
from dataclasses import dataclass

import numpy as np

DEFAULT_BYTES = 768 * 1024 * 1024

Place = tuple[str, int, int]


@dataclass(frozen=True, slots=True)
class CacheFigures:
    """How often a lookup was answered, and how many bytes are kept."""

    hits: int
    misses: int
    bytes: int


class SpanCache:
    """Rendered spans of nodes.

    A lookup is answered only by the very span that was asked for, so what is kept can never change a rendering's samples. What no longer fits is forgotten:
    to render it again takes about as long as to read it from a disk, and holds no descriptor.
    """

    def __init__(self, most_bytes: int = DEFAULT_BYTES) -> None:
        self._most = most_bytes
        self._kept: OrderedDict[Place, np.ndarray] = OrderedDict()
        self._lock = threading.Lock()
        self._bytes = self._hits = self._misses = 0

    def get(self, key: str, start: int, stop: int) -> np.ndarray | None:
        """Return the span of a node, or None where it is not kept. The array must not be written to."""
        place = (key, start, stop)
        with self._lock:
            found = self._kept.get(place)
            if found is None:
                self._misses += 1
            else:
                self._kept.move_to_end(place)
                self._hits += 1
            return found

    def put(self, key: str, start: int, stop: int, audio: np.ndarray) -> None:
        """Keep a rendered span; those that were asked for longest ago go when the bound is passed."""
        place, size = (key, start, stop), _bytes_held(audio)
        with self._lock:
            if place in self._kept or size > self._most:
                return
            self._kept[place] = audio
            self._bytes += size
            while self._bytes > self._most:
                self._bytes -= _bytes_held(self._kept.popitem(last=False)[1])

    def figures(self) -> CacheFigures:
        """Return how well the cache serves."""
        with self._lock:
            return CacheFigures(self._hits, self._misses, self._bytes)

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            self._kept.clear()
            self._bytes = 0


def _bytes_held(audio: np.ndarray) -> int:
    """Return how much memory an array keeps: a view keeps all of what it is a part of."""
    while isinstance(audio.base, np.ndarray):
        audio = audio.base
    return audio.nbytes
