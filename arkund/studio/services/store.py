"""Where audio and prints lie in the data folder."""

import errno
import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, OperationalError

from arkund.core.errors import ArkundError, StorageError

OF_THE_NETWORK = {
    errno.EADDRINUSE,
    errno.EADDRNOTAVAIL,
    errno.ECONNREFUSED,
    errno.ECONNRESET,
    errno.EPIPE,
    errno.ETIMEDOUT,
}
DAMAGED = ("malformed", "not a database")  # what SQLite says of a file that is no (whole) database


def audio_folder() -> Path:
    """Return the folder of imported channels, each named by the hash of its samples."""
    return Path(settings.DATA) / "audio"


def audio_path(digest: str) -> Path:
    """Return the file of one imported channel."""
    return audio_folder() / f"{digest}.npy"


def prints_folder() -> Path:
    """Return the folder of prints made from the pages."""
    return Path(settings.DATA) / "prints"


def whole_folder() -> Path:
    """Return the folder of the whole songs' waveforms as rendered, by session."""
    return Path(settings.DATA) / "whole"


def work_folder() -> Path:
    """Return the folder through which work on a cluster tells its progress."""
    return Path(settings.DATA) / "work"


def peaks_folder() -> Path:
    """Return the folder of the recordings' waveforms, by hash."""
    return Path(settings.DATA) / "peaks"


def archives_folder() -> Path:
    """Return the folder of archives made from the pages."""
    return Path(settings.DATA) / "archives"


def incoming_folder() -> Path:
    """Return the folder where uploads wait for their import."""
    folder = Path(settings.DATA) / "incoming"
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def refusal(error: BaseException) -> ArkundError | None:
    """Return what a user is told of an error: ours as it is, and what a full or read-only disk raises in a sentence; None for anything else."""
    if isinstance(error, ArkundError):
        return error
    if isinstance(error, OSError) and error.errno is not None and error.errno not in OF_THE_NETWORK:
        return StorageError(
            f"The disk refused ({os.strerror(error.errno).lower()}); nothing was changed. Look after the data folder and try again."
        )
    if isinstance(error, DatabaseError) and is_damage(error):
        return StorageError(
            f"The database is damaged ({error}); nothing was changed. Stop the application; "
            "`arkund doctor --bring-back-database` puts its newest whole copy in its place."
        )
    if isinstance(error, OperationalError):
        return StorageError(
            f"The database could not be written ({error}); nothing was changed. Is the disk full or the data folder read-only?"
        )
    return None


def is_damage(error: BaseException) -> bool:
    """Say whether SQLite's error is of a file that is no (whole) database, and not of a disk that lets nobody at it."""
    return any(word in str(error) for word in DAMAGED)


def settle(path: Path) -> None:
    """See to it that a file's contents are on the disk before it gets its name."""
    with path.open("rb") as file:
        os.fsync(file.fileno())


@contextmanager
def being_written() -> Iterator[None]:
    """Keep other processes from clearing up what no row names yet, while this one writes audio."""
    with _lock_file() as file:
        fcntl.flock(file, fcntl.LOCK_SH)
        yield


@contextmanager
def undisturbed() -> Iterator[bool]:
    """Say whether no process is writing audio; while it is so, none begins to."""
    with _lock_file() as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            yield False
        else:
            yield True


def _lock_file():
    return (Path(settings.DATA) / ".writing").open("a")
