"""A session's takes as files in a folder, each named by the hash of its samples. Plain data, so that it can be handed to another process."""

import functools
from dataclasses import dataclass
from pathlib import Path

from arkund.core.errors import AudioError
from arkund.core.files.audio import MicFile

MOST_OPENED = 256  # each holds a descriptor


@functools.lru_cache(maxsize=MOST_OPENED)
def _opened(path: Path) -> MicFile:
    return MicFile(path)


def opened(folder: Path, digest: str) -> MicFile:
    """Return a recording by its hash. Raises AudioError where its file is gone."""
    try:
        return _opened(folder / f"{digest}.npy")
    except FileNotFoundError as error:
        raise AudioError(
            "A recording is missing in the data folder; `arkund doctor` says which and what to do."
        ) from error


def forget_opened() -> None:
    """Open recordings anew: a file was taken away or put back."""
    _opened.cache_clear()


@dataclass(frozen=True, slots=True)
class Library:
    """The takes of one session; satisfies ``Recordings``."""

    folder: Path
    sample_rate_hz: int
    files: dict[tuple[str, str], str]  # hash by take and mic
    lengths: dict[str, int]  # samples by take

    def mic(self, take: str, mic_id: str) -> MicFile | None:
        """Return a mic of a take, or None where the take lacks it."""
        digest = self.files.get((take, mic_id))
        return opened(self.folder, digest) if digest else None

    def content(self, take: str, mic_id: str) -> str:
        """Return the hash of a mic's samples, nothing where the take lacks it."""
        return self.files.get((take, mic_id), "")

    def length(self, take: str) -> int:
        """Return the length of a take in samples."""
        return self.lengths.get(take, 0)
