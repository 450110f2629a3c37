"""Some room on the disk that is kept, and given up where the disk is full: the application can be started then, and looked at."""

import os
import shutil
from contextlib import suppress
from pathlib import Path

from django.conf import settings

from arkund.core.errors import StorageError
from arkund.core.files import room

RESERVE_BYTES = 16_000_000
NEEDED_BYTES = 4_000_000  # by the database and its journal, to be opened and written to


def hold() -> None:
    """Keep the reserve where the disk has room for it; a disk that refuses is no reason not to work."""
    if _file().exists() or _free() < room.KEPT_FREE_BYTES + RESERVE_BYTES:
        return
    new = _file().with_name(".new-reserve")
    with suppress(OSError):
        try:
            with new.open("wb") as file:
                os.posix_fallocate(file.fileno(), 0, RESERVE_BYTES)
            new.rename(_file())
        finally:
            new.unlink(missing_ok=True)


def give_up() -> str:
    """Where the disk is full, give the reserve up and return what there is to tell; "" where it is not.

    Raises StorageError where the disk is full and there is no reserve.
    """
    if _free() >= NEEDED_BYTES:
        return ""
    _file().unlink(missing_ok=True)
    free = _free()
    if free < NEEDED_BYTES:
        raise StorageError(
            f"The disk is full: {free / 1e6:.1f} MB are free at {settings.DATA}, {NEEDED_BYTES / 1e6:.0f} MB are needed to start. "
            "Nothing was touched; make room and start again."
        )
    return (
        f"The disk is full. The reserve of {RESERVE_BYTES / 1e6:.0f} MB was released so that Arkund can start; nothing can be loaded or printed until "
        f"there is room. Old prints are in prints/, deleted sessions in quarantine/, both in {settings.DATA}."
    )


def _free() -> int:
    return shutil.disk_usage(settings.DATA).free


def _file() -> Path:
    return Path(settings.DATA) / ".reserve"
