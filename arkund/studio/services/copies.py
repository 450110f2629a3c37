"""Copies of the database: at each start and hourly while it changes, by SQLite's own backup, the last 24 kept in ``copies/``."""

import logging
import os
import sqlite3
import threading
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings
from django.db import DatabaseError, connection, connections

from arkund.core.errors import SettingsError
from arkund.studio.services import cards, quarantine, store

KEPT = 24
EVERY_S = 3600.0
CLOCK_SLACK_S = 3600.0  # by which clocks may differ
log = logging.getLogger(__name__)


def folder() -> Path:
    """Return the folder of the copies."""
    return Path(settings.DATA) / "copies"


def database() -> Path:
    """Return the database's file."""
    return Path(connections["default"].settings_dict["NAME"])


def kept() -> list[Path]:
    """Return the copies, newest first; those from days that are still to come, when a clock was ahead, last: nobody knows how old they are."""
    rows = sorted(folder().glob("arkund-*.sqlite3"), reverse=True)
    return sorted(rows, key=lambda path: path.stat().st_mtime > _latest())


def _latest() -> float:
    """Return the time after which nothing can have been written yet."""
    return datetime.now(UTC).timestamp() + CLOCK_SLACK_S


def keep() -> Path | None:
    """Copy the database where it changed since the newest copy, and let the oldest go. A damaged database is never kept in a good one's place."""
    newest = next(iter(kept()), None)
    if newest is not None and _changed() <= newest.stat().st_mtime <= _latest():
        return None
    folder().mkdir(mode=0o700, exist_ok=True)
    path = folder() / f"arkund-{datetime.now(UTC):%Y%m%d-%H%M%S-%f}.sqlite3"
    new = path.with_name(f".new-{path.name}")
    try:
        began = datetime.now(UTC).timestamp()
        with closing(sqlite3.connect(database())) as source, closing(sqlite3.connect(new)) as copy:
            source.backup(copy)
        fault = fault_of(new)
        if fault:
            log.error("the database is damaged (%s); its former copies are kept", fault)
            return None
        new.chmod(0o600)
        store.settle(new)
        new.rename(path)
        _dated(path, began)
    finally:
        new.unlink(missing_ok=True)
    for old in kept()[KEPT:]:
        old.unlink()
    return path


def _dated(path: Path, at: float) -> None:
    """Date a copy to when it began: what was written meanwhile is newer."""
    os.utime(path, (at, at))


def _changed() -> float:
    """Return when the database was last written to, in seconds since 1970."""
    both = (database(), database().with_name(f"{database().name}-wal"))
    return max(path.stat().st_mtime for path in both if path.exists())


def fault_of(path: Path) -> str:
    """Return what is wrong with a database file, nothing where it is whole."""
    try:
        with closing(sqlite3.connect(path)) as opened:
            said = opened.execute("PRAGMA quick_check(1)").fetchone()[0]
            return "" if said == "ok" else str(said)
    except sqlite3.DatabaseError as error:
        if isinstance(error, sqlite3.OperationalError) and not store.is_damage(error):
            raise
        return str(error)


def bring_back(name: str = "newest") -> Path:
    """Put a copy in the database's place; what stood there is put aside. Raises SettingsError where there is no whole copy of that name."""
    whole = [path for path in kept() if name in ("newest", path.name, path.stem) and not fault_of(path)]
    if not whole:
        there = ", ".join(path.name for path in kept()) or "none"
        raise SettingsError(f"copies: no whole copy {name!r}; there are {there}.")
    connection.close()
    for ending in ("", "-wal", "-shm"):
        old = database().with_name(database().name + ending)
        if old.exists():
            quarantine.put_aside(old)
    with closing(sqlite3.connect(whole[0])) as source, closing(sqlite3.connect(database())) as target:
        source.backup(target)
    database().chmod(0o600)
    return whole[0]


class Keeper:
    """Keeps copies and cards in a thread of its own until it is stopped, and once more then."""

    def __init__(self, every_s: float = EVERY_S) -> None:
        self._stop, self._every_s = threading.Event(), every_s
        self._thread = threading.Thread(target=self._run, name="keeper", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        while not self._stop.wait(self._every_s):
            keep_all()

    def stop(self) -> None:
        """Keep what changed and end."""
        self._stop.set()
        self._thread.join()
        keep_all()


def keep_all() -> None:
    """Keep a copy of the database and the sessions' cards."""
    keep_if_possible()
    try:
        cards.refresh()
    except DatabaseError:
        log.exception("the cards could not be looked at")
    finally:
        connection.close()


def keep_if_possible() -> None:
    """Keep a copy of the database; a disk that refuses is logged and asked again in an hour: it must not keep anybody from working."""
    try:
        with connection.cursor() as cursor:
            cursor.execute("PRAGMA wal_checkpoint(PASSIVE)")  # on the disk before a card says so
        keep()
    except (OSError, sqlite3.Error, DatabaseError):
        log.exception("the database could not be copied")
