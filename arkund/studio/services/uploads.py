"""Uploaded files on their way to an import: names that stay safe and whole, room on the disk, a user's share of it. What is refused leaves nothing."""

import shutil
import uuid
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from itertools import chain, count
from pathlib import Path, PurePosixPath

from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import UploadedFile

from arkund.core.errors import StorageError
from arkund.core.files import room
from arkund.studio.models import Job, MicRecording, Print
from arkund.studio.services import quarantine, store

MOST_NAME_BYTES = 200  # of one part of a path, as the file system counts; it allows 255, temporary names need some
MOST_PARTS = 3
FORBIDDEN = '<>:"|?*\0'


def inside(path: str) -> Path:
    """Return a relative path that stays inside its folder and keeps its ending, whatever was sent."""
    parts = [part for part in PurePosixPath(path.replace("\\", "/")).parts if part not in ("/", "..", ".")]
    kept = [part for part in map(_safe, parts[-MOST_PARTS:]) if part]
    return Path(*kept) if kept else Path("unnamed")


def _safe(part: str) -> str:
    part = "".join(c for c in part if c.isprintable() and c not in FORBIDDEN).lstrip(".")
    part = part.encode("utf-8", "ignore").decode()  # halves of characters
    stem, dot, ending = part.rpartition(".")
    if not dot or len(ending) > 8:
        stem, dot, ending = part, "", ""
    while len((stem + dot + ending).encode()) > MOST_NAME_BYTES:
        stem = stem[:-1]
    return stem + dot + ending


@contextmanager
def taken(files: Sequence[UploadedFile], paths: Sequence[str]) -> Iterator[Path]:
    """Give a new folder below the incoming ones with the files in it; where anything fails within, it is gone again."""
    folder = store.incoming_folder() / uuid.uuid4().hex
    folder.mkdir()
    try:
        for path, file in zip(paths, files, strict=True):
            target = folder
            for part in inside(path).parts[:-1]:
                target = _free(target / part, Path.is_file)  # a file of that name may stand where a folder is to be
                target.mkdir(exist_ok=True)
            target = _free(target / inside(path).name, Path.exists)
            Path(file.temporary_file_path()).rename(target)
        yield folder
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        raise


def _free(path: Path, in_the_way: Callable[[Path], bool]) -> Path:
    """Return a path, numbered where something is in its way: ``SN-2.wav``."""
    numbered = (path.with_stem(f"{path.stem}-{k}") for k in count(2))
    return next(each for each in chain([path], numbered) if not in_the_way(each))


def used_bytes(user_id: int) -> int:
    """Return how much the recordings and the prints of a user's sessions take, what several sessions share counting once, what was put aside of theirs, and
    what was uploaded for work that failed.
    """
    rows = MicRecording.objects.filter(take__session__members=user_id).values_list("digest", "length").distinct()
    prints = [
        Path(folder) for folder in Print.objects.filter(session__members=user_id).values_list("folder", flat=True)
    ]
    printed = sum(quarantine.size_of(each) for made in prints for each in (made, made.with_suffix(".zip")))
    failed = Job.objects.filter(user=user_id, state=Job.FAILED).values_list("arguments__folder", flat=True)
    waiting = sum(quarantine.size_of(store.incoming_folder() / folder) for folder in failed if folder)
    return room.BYTES_PER_SAMPLE * sum(dict(rows).values()) + printed + waiting + quarantine.bytes_of(user_id)


def check_share(user_id: int | None, wanted_bytes: int) -> None:
    """Raise StorageError where a user may not keep so many bytes more, or the disk has no room for them. The keeper, and whoever works without logins, may."""
    room.check(Path(settings.DATA), wanted_bytes)
    if user_id is None or get_user_model().objects.filter(pk=user_id, is_staff=True).exists():
        return
    used = used_bytes(user_id)
    if used + wanted_bytes > settings.QUOTA_BYTES:
        raise StorageError(
            f"Your recordings and prints take {used / 1e9:.2f} GB and these {wanted_bytes / 1e9:.2f} GB; you may keep "
            f"{settings.QUOTA_BYTES / 1e9:.0f} GB. Nothing was changed. Deleted sessions count for {quarantine.KEPT_DAYS} days, while they can be restored; "
            "ask the studio's keeper to remove them sooner."
        )
