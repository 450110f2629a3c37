"""Is there room on the disk for what is to be read in? Asked before and while it is written, so that a full disk is a sentence and not a surprise."""

import shutil
from pathlib import Path

from arkund.core.errors import StorageError

KEPT_FREE_BYTES = 256 << 20  # for the database and all else on the disk
BYTES_PER_SAMPLE = 4


def bytes_of(frames: int, channels: int, file_rate_hz: int, sample_rate_hz: int) -> int:
    """Return how many bytes a file takes once it is read in at a rate."""
    return -(-frames * sample_rate_hz // file_rate_hz) * channels * BYTES_PER_SAMPLE


def check(folder: Path, wanted_bytes: int) -> None:
    """Raise StorageError where a folder's disk has no room for so many bytes more."""
    while not folder.exists():
        folder = folder.parent
    free = shutil.disk_usage(folder).free
    if wanted_bytes + KEPT_FREE_BYTES > free:
        raise StorageError(
            f"The disk has too little room: {wanted_bytes / 1e9:.2f} GB are needed, {free / 1e9:.2f} GB are free and "
            f"{KEPT_FREE_BYTES / 1e9:.2f} GB stay so. Nothing was changed; make room and try again."
        )
