"""What must hold before the data folder is opened: the database is there, whole, and not older than the audio beside it.

A database that was lost is made anew by the first command otherwise, and all recordings are nobody's.
"""

import sqlite3
from contextlib import closing, suppress
from pathlib import Path

from django.conf import settings
from django.db import connection

from arkund.core.errors import SettingsError, StorageError
from arkund.studio.services import cards, copies, store

REMEDY = (
    "`arkund doctor --bring-back-database` puts the newest copy in its place (or bring back the data folder from your own backup), "
    "`arkund doctor --from-audio` rebuilds the sessions from the cards beside the recordings"
)


def check() -> None:
    """Raise SettingsError where opening would make things worse."""
    _refuse(fault())


def check_whole() -> None:
    """Raise SettingsError where the database is damaged anywhere; it is read as a whole."""
    path = copies.database()
    try:
        damage = copies.fault_of(path) if path.exists() and not connection.is_in_memory_db() else ""
    except sqlite3.OperationalError as error:
        raise StorageError(_unreadable(error)) from error
    _refuse(f"database: {path.name} is damaged ({damage})" if damage else "")


def check_age() -> None:
    """Raise SettingsError where the database, migrated already, is older than the audio beside it."""
    _refuse(older())


def keep_private() -> None:
    """See to it that nobody else on this machine reads the database or the data folder; where the system refuses, it stays as it is."""
    for path, mode in ((copies.database(), 0o600), (Path(settings.DATA), 0o700)):
        with suppress(OSError):
            if path.exists() and path.stat().st_mode & 0o077:
                path.chmod(mode)


def _refuse(said: str) -> None:
    if said:
        raise SettingsError(f"{said}. Nothing was touched. What to do: {REMEDY}.")


def fault() -> str:
    """Return why the data folder must not be opened, nothing where it may be."""
    path = copies.database()
    if connection.is_in_memory_db():
        return ""
    if path.exists() and path.stat().st_size:
        try:
            with closing(sqlite3.connect(path)) as opened:
                if opened.execute("SELECT 1 FROM sqlite_master WHERE name = 'studio_session'").fetchone():
                    return ""
        except sqlite3.DatabaseError as error:
            if not store.is_damage(error):
                raise StorageError(_unreadable(error)) from error
            return f"database: {path.name} is damaged ({error})"
    count = sum(1 for each in store.audio_folder().glob("*.npy") if not each.name.startswith("."))
    missing = "is empty" if path.exists() else "is missing"
    return f"database: {path.name} {missing}, but {count} recordings lie beside it" if count else ""


def _unreadable(error: Exception) -> str:
    """Return what is said of a database that is perhaps whole and cannot be got at."""
    return (
        f"The database cannot be opened ({error}). Nothing was touched. Is the disk there, not full and not read-only, and may this user read and write"
        f" {settings.DATA}?"
    )


def older() -> str:
    """Return by what the database is older than the audio beside it, nothing where it is not; it must be migrated already."""
    late = cards.ahead()
    if not late:
        return ""
    names = ", ".join(f"“{card.name}”" for card in late[:3]) + (f" and {len(late) - 3} more" if len(late) > 3 else "")
    return f"database: is older than the recordings beside it: it does not know {names} as it stood last"
