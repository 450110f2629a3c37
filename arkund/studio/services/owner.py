"""One owner per data folder: the process that serves it, or that repairs it. Its lock dies with it.

Only the owner clears up, takes up interrupted work and repairs, so that a second start destroys nothing of what the first is just doing.
"""

import fcntl
import json
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import IO

import psutil
from django.conf import settings

from arkund.core.errors import SettingsError

CLOCK_SLACK_S = 2.0  # by which the system's clock may have been set since a process began


def mark() -> str:
    """Return this process's name, which no later process has, even where it gets the same number."""
    return f"{os.getpid()}@{psutil.Process().create_time():.2f}"


def alive(process_mark: str) -> bool:
    """Say whether the process of a mark runs."""
    number, _, began = process_mark.partition("@")
    try:
        process = psutil.Process(int(number))
        same = abs(process.create_time() - float(began)) < CLOCK_SLACK_S
        return same and process.status() != psutil.STATUS_ZOMBIE
    except (ValueError, psutil.Error):
        return False


@contextmanager
def owning(what: str) -> Iterator[Callable[[str], None]]:
    """Own the data folder while the context lasts; it gives a function that says anew what the owner does.

    Raises SettingsError that says who owns it, before anything is touched.
    """
    since = datetime.now(UTC).isoformat("T", "seconds")
    with _file().open("ab", buffering=0) as file:
        _lock(file)

        def say(what: str) -> None:
            file.truncate(0)
            with suppress(OSError):  # the lock holds on a full disk too; only who holds it is not told there
                file.write(json.dumps({"process": os.getpid(), "what": what, "since": since}).encode())

        say(what)
        try:
            yield say
        finally:
            file.truncate(0)


def _lock(file: IO[bytes]) -> None:
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        raise SettingsError(
            f"data folder: {holder_words()}; stop it first, or name another folder in ARKUND_DATA. Nothing was touched."
        ) from error


def holder_words() -> str:
    """Return who owns the data folder, in words."""
    try:
        said = json.loads(_file().read_text())
        return f"process {said['process']} {said['what']} since {said['since']} and owns it"
    except (OSError, ValueError, KeyError, TypeError):
        return "another process owns it"


def _file() -> Path:
    return Path(settings.DATA) / ".owner"
