"""Peak pyramids, made when first asked for: of recordings on disk, of joined takes in memory, because each new join makes others."""

import functools
import hashlib
import json
import os
import tempfile
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.files.audio import MicFile
from arkund.core.files.library import Library
from arkund.core.files.peaks import LEVELS, pyramid, samples
from arkund.core.hits.bands import Reader
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.render.source import Sources, edits_key, source_settings
from arkund.core.takes.process import assembled
from arkund.studio.models import Session
from arkund.studio.services import store
from arkund.studio.services.recordings import recordings_of

BLOCK = 1 << 15  # samples that are drawn one by one are sent together
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


def of_song(session: Session, mic_id: str, level: int, block: int | None = None) -> tuple[bytes, str]:
    """Return a mic's waveform as it sounds in the song, before its tools and its trim: edited in time, with replaced hits and what is laid through it; and what
    it is of. At level 1 it is a block of BLOCK samples, int16, else int8 minimum and maximum by column.

    Raises SettingsError for an unknown mic or level, or a block that lies beyond the song.
    """
    if level not in (1, *LEVELS):
        raise SettingsError(f"level: expected one of {(1, *LEVELS)}, got {level!r}.")
    heard = _Heard.of(session.plan, recordings_of(session), mic_id)
    if level > 1:
        return _pyramid(heard)[level].tobytes(), heard.content
    if block is None or not 0 <= block * BLOCK < heard.reader.length:
        raise SettingsError("block: lies beyond the song.")
    return samples(heard.reader, block * BLOCK, (block + 1) * BLOCK).tobytes(), heard.content


def content_of_song(plan: Plan, recordings: Library, mic_id: str) -> str:
    """Return what :func:`of_song` depends on, as a hash."""
    return _Heard.of(plan, recordings, mic_id).content


@dataclass(frozen=True, slots=True)
class _InSong:
    """A mic as it sounds in the song, to be drawn."""

    sources: Sources
    mic: MicPlan
    length: int

    def read(self, start: int, stop: int) -> np.ndarray:
        return self.sources.read(self.mic, start, stop)


@dataclass(frozen=True, slots=True)
class _Heard:
    content: str
    reader: _InSong = field(compare=False)

    @classmethod
    def of(cls, plan: Plan, recordings: Library, mic_id: str) -> "_Heard":
        mic, plan = plan.mic(mic_id).replace(trim_db=0.0), plan.replace(scenes=())
        joined = assembled(plan, recordings)
        settings = [source_settings(plan, joined, mic, edits_key(plan)), recordings.length(plan.take)]
        content = hashlib.sha256(json.dumps(settings, sort_keys=True).encode()).hexdigest()
        return cls(content, _InSong(Sources(plan, joined), mic, joined.length(plan.take)))


@functools.lru_cache(maxsize=MOST_JOINED)
def _pyramid(joined: _Joined | _Heard):
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
