"""Rendered spans by node key, bounded in bytes: in memory first, then in memory-mapped files; what was heard last stays longest.

Only what was asked for again goes into files: the many variants that a moving slider leaves behind are not worth the disk.
"""

import hashlib
import threading
from collections import OrderedDict
from dataclasses import dataclass
from pathlib import Path

import numpy as np

DEFAULT_BYTES = 768 * 1024 * 1024
DEFAULT_FILE_BYTES = 2 * 1024 * 1024 * 1024

Place = tuple[str, int, int]


@dataclass(frozen=True, slots=True)
class CacheFigures:
    """How often a lookup was answered, and what is kept."""

    memory_hits: int
    file_hits: int
    misses: int
    memory_bytes: int
    file_bytes: int


class SpanCache:
    """Rendered spans of nodes.

    A lookup is answered only by the very span that was asked for, so what is kept can never change a rendering's samples. What no longer fits into memory
    moves into a file if it was asked for since it was made; without a folder it is forgotten.
    """

    def __init__(
        self, most_bytes: int = DEFAULT_BYTES, folder: Path | None = None, most_file_bytes: int = DEFAULT_FILE_BYTES
    ) -> None:
        self._most, self._folder, self._most_files = most_bytes, folder, most_file_bytes
        self._memory: OrderedDict[Place, np.ndarray] = OrderedDict()
        self._files: OrderedDict[Place, int] = OrderedDict()
        self._wanted: set[Place] = set()  # of those in memory, what was asked for again
        self._lock = threading.Lock()
        self._bytes = self._file_bytes = 0
        self._counts = {"memory_hits": 0, "file_hits": 0, "misses": 0}

    def get(self, key: str, start: int, stop: int) -> np.ndarray | None:
        """Return the span of a node, or None where it is not kept. The array must not be written to."""
        place = (key, start, stop)
        with self._lock:
            if place in self._memory:
                self._memory.move_to_end(place)
                self._wanted.add(place)
                self._counts["memory_hits"] += 1
                return self._memory[place]
            if place in self._files:
                found = self._read(place)
                if found is not None:
                    self._files.move_to_end(place)
                    self._counts["file_hits"] += 1
                    return found
            self._counts["misses"] += 1
            return None

    def put(self, key: str, start: int, stop: int, audio: np.ndarray) -> None:
        """Keep a rendered span; the oldest unused ones go when the bound is passed."""
        place, old = (key, start, stop), []
        with self._lock:
            if place in self._memory or audio.nbytes > self._most:
                return
            self._memory[place] = audio
            self._bytes += audio.nbytes
            while self._bytes > self._most:
                gone, rows = self._memory.popitem(last=False)
                self._bytes -= rows.nbytes
                if gone in self._wanted:
                    self._wanted.remove(gone)
                    old.append((gone, rows))
        if self._folder is not None:
            for each in old:
                self._write(*each)

    def figures(self) -> CacheFigures:
        """Return how well the cache serves."""
        with self._lock:
            return CacheFigures(**self._counts, memory_bytes=self._bytes, file_bytes=self._file_bytes)

    def clear(self) -> None:
        """Forget everything."""
        with self._lock:
            for place in self._files:
                self._path(place).unlink(missing_ok=True)
            self._memory.clear()
            self._wanted.clear()
            self._files.clear()
            self._bytes = self._file_bytes = 0

    def _path(self, place: Place) -> Path:
        return self._folder / f"{hashlib.sha256(repr(place).encode()).hexdigest()}.npy"

    def _read(self, place: Place) -> np.ndarray | None:
        try:
            # copy-on-write, because the kernels take writable arrays only; nothing writes to it
            return np.load(self._path(place), mmap_mode="c").view(np.ndarray)
        except OSError:  # someone cleared the folder
            self._file_bytes -= self._files.pop(place)
            return None

    def _write(self, place: Place, audio: np.ndarray) -> None:
        """Move a span into a file. A full disk costs only the next rendering some time."""
        if audio.nbytes > self._most_files:
            return
        path = self._path(place)
        try:
            self._folder.mkdir(parents=True, exist_ok=True)
            with path.with_suffix(".new").open("wb") as file:
                np.save(file, audio)
            path.with_suffix(".new").rename(path)
        except OSError:
            path.with_suffix(".new").unlink(missing_ok=True)
            return
        with self._lock:
            self._file_bytes += audio.nbytes - self._files.pop(place, 0)
            self._files[place] = audio.nbytes
            while self._file_bytes > self._most_files:
                gone, size = self._files.popitem(last=False)
                self._file_bytes -= size
                self._path(gone).unlink(missing_ok=True)
