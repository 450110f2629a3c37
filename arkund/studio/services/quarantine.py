"""What nobody refers to any more is put aside into a dated folder, not deleted: a database that was lost or is older than the audio must not cost a recording.

``quarantine/2026-11-28/audio/<hash>.npy`` lay at ``audio/<hash>.npy`` until that day.
"""

import json
import re
import shutil
from collections.abc import Collection, Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

from django.conf import settings

from arkund.core.errors import SettingsError

COMES_BACK = ("audio", "prints")  # a former database never: its journal beside another one would damage that
KEPT_DAYS = 30  # at least; later only ``arkund doctor --repair`` lets it go
DAY = re.compile(r"\d{4}-\d{2}-\d{2}")
OWNERS = "owners.json"  # of a day: by file, the ids of the users whose it was


@dataclass(frozen=True, slots=True)
class Day:
    """What was put aside on one day: how many files, how many of them :func:`bring_back` brings back, and their bytes."""

    day: date
    files: int
    returning: int
    bytes: int

    @property
    def over(self) -> bool:
        """Whether it may go."""
        return datetime.now(UTC).date() - self.day > timedelta(days=KEPT_DAYS)


def folder() -> Path:
    """Return the folder of all that was put aside."""
    return Path(settings.DATA) / "quarantine"


def put_aside(path: Path, owners: Collection[int] = ()) -> Path:
    """Move a file or folder of the data folder into today's quarantine; return where it lies now. owners : the users in whose share it stays."""
    to = folder() / datetime.now(UTC).date().isoformat() / path.relative_to(settings.DATA)
    number, free = 1, to
    while free.exists():
        number, free = number + 1, to.with_name(f"{to.name}.{number}")
    free.parent.mkdir(parents=True, exist_ok=True)
    moved = path.rename(free)
    if owners:
        day = folder() / datetime.now(UTC).date().isoformat()
        told = _owners(day) | {str(moved.relative_to(day)): sorted(owners)}
        new = day / f".{OWNERS}"
        with suppress(OSError):  # a full disk must not keep anybody from deleting; it counts for nobody then
            new.write_text(json.dumps(told, sort_keys=True))
            new.replace(day / OWNERS)
    return moved


def _owners(day: Path) -> dict[str, list[int]]:
    """Return whose the files of a day were."""
    try:
        return json.loads((day / OWNERS).read_text())
    except (OSError, ValueError):
        return {}


def bytes_of(user_id: int) -> int:
    """Return how much of what was put aside was a user's."""
    mine = [day / name for day in _days() for name, owners in _owners(day).items() if user_id in owners]
    return sum(size_of(path) for path in mine)


def size_of(path: Path) -> int:
    """Return how many bytes a file takes, or a folder's files; 0 where there is none."""
    files = path.rglob("*") if path.is_dir() else [path]
    return sum(each.stat().st_size for each in files if each.is_file())


def days() -> list[Day]:
    """Return what lies there, by day, oldest first."""
    out = []
    for day in _days():
        files = [path for path in day.rglob("*") if path.is_file() and path.name != OWNERS]
        size = sum(path.stat().st_size for path in files)
        out.append(Day(date.fromisoformat(day.name), len(files), len(_returning(day)), size))
    return out


def bring_back(which: str = "all") -> list[Path]:
    """Move what was put aside on a day (or all) back to where it lay, where nothing lies now; return what came back. Raises SettingsError."""
    known = [day for day in _days() if which in ("all", day.name)]
    if not known:
        there = ", ".join(day.name for day in _days()) or "nothing"
        raise SettingsError(f"quarantine: nothing was put aside on {which!r}; there is {there}.")
    out = []
    for day in known:
        for path in _returning(day):
            to = Path(settings.DATA) / path.relative_to(day)
            if not to.exists():
                to.parent.mkdir(parents=True, exist_ok=True)
                out.append(path.rename(to))
        _drop_empty(day)
    return out


def _returning(day: Path) -> list[Path]:
    return [path for kind in COMES_BACK for path in sorted((day / kind).rglob("*")) if path.is_file()]


def let_go(day: Day) -> None:
    """Delete what was put aside on a day."""
    shutil.rmtree(folder() / day.day.isoformat(), ignore_errors=True)


def _days() -> Iterator[Path]:
    inside = folder().iterdir() if folder().is_dir() else ()
    return iter(sorted(path for path in inside if DAY.fullmatch(path.name) and path.is_dir()))


def _drop_empty(day: Path) -> None:
    if not _returning(day):
        (day / OWNERS).unlink(missing_ok=True)
    for path in sorted((path for path in day.rglob("*") if path.is_dir()), reverse=True):
        if not any(path.iterdir()):
            path.rmdir()
    if not any(day.iterdir()):
        day.rmdir()
