"""Peak pyramids, made when first asked for: of recordings on disk, of joined takes in memory, because each new join makes others."""

import functools
import os
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

from arkund.core.errors import SettingsError
from arkund.core.files.audio import MicFile
from arkund.core.files.peaks import LEVELS, pyramid
from arkund.core.hits.bands import Reader
from arkund.core.takes.process import assembled
from arkund.studio.models import Session
from arkund.studio.services import store
from arkund.studio.services.recordings import recordings_of

MOST_JOINED = 96  # mics of joined takes whose pictures are remembered


@dataclass(frozen=True, slots=True)
class _Joined:
    content: str
    reader: Reader = field(compare=False)


def peaks(session: Session, mic_id: str, level: int) -> tuple[bytes, str] | None:
    """Return a mic's waveform at a zoom, int8 minimum and maximum by column, through all takes that the Plan joins; and what it is of.

    None for a mic that was not recorded. Raises SettingsError for an unknown level.
    """
    if level not in LEVELS:
        raise SettingsError(f"level: expected one of {LEVELS}, got {level!r}.")
    plan, recordings = session.plan, recordings_of(session)
    heard = assembled(plan, recordings)
    content = heard.content(plan.take, mic_id)
    if not content:
        return None
    if not plan.joins:
        return _of_file(content, level).read_bytes(), content
    return _pyramid(_Joined(content, heard.mic(plan.take, mic_id)))[level].tobytes(), content


@functools.lru_cache(maxsize=MOST_JOINED)
def _pyramid(joined: _Joined):
    return pyramid(joined.reader)


def _of_file(digest: str, level: int) -> Path:
    """Return the file of one level."""
    folder = store.peaks_folder()
    wanted = folder / f"{digest}-{level}.bin"
    if not wanted.exists():
        folder.mkdir(exist_ok=True)
        for each, columns in pyramid(MicFile(store.audio_path(digest))).items():
            handle, name = tempfile.mkstemp(dir=folder)
            with os.fdopen(handle, "wb") as file:
                file.write(columns.tobytes())
            Path(name).replace(folder / f"{digest}-{each}.bin")
    return wanted
