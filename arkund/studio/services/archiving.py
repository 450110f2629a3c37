"""A session as one file: a zip of JSON and FLAC that prints the same on another machine. docs/formats.md describes it."""

import hashlib
import json
import re
import shutil
import tempfile
import uuid
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
from django.db import transaction

from arkund.core.errors import AudioError, CancelledError, SettingsError
from arkund.core.files import audio, room
from arkund.core.files.library import opened
from arkund.core.settings import interruptible, read_json
from arkund.studio.models import Session
from arkund.studio.services import cards, store
from arkund.studio.services.document import FORMATS, Document, create, describe

CONTENTS, SUM = "session.json", "session.sha256"
AUDIO_NAME = re.compile(r"audio/([0-9a-f]{64})\.(flac|wav)")
MOST_JSON_BYTES = 64 * 1024**2
MOST_ENTRIES = 20_000
CLOSED = 1  # the schema of Moves that can be read, and neither be undone nor done again
BLOCK = 1 << 18
FULL_24 = 1 << 23
Progress = Callable[[float, str], None]


def archive(
    session: Session,
    path: Path,
    on_progress: Progress = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Path:
    """Write a session with its recordings, Moves and decisions into a new file. Raises AudioError where it cannot be written."""
    if path.exists():
        raise AudioError(f"{path.name}: is there already; choose another name.")
    contents, hashes = _contents(describe(session), path.name)
    new = path.with_name(f".new-{uuid.uuid4().hex}")
    try:
        with store.being_written(), zipfile.ZipFile(new, "x", zipfile.ZIP_STORED) as bundle:
            bundle.writestr(CONTENTS, contents, zipfile.ZIP_DEFLATED)
            bundle.writestr(SUM, hashlib.sha256(contents).hexdigest())
            for number, digest in enumerate(hashes):
                if cancelled():
                    raise CancelledError("The archive was cancelled; nothing was kept.")
                on_progress(number / len(hashes), f"recording {number + 1} of {len(hashes)}")
                _pack(bundle, digest, session.sample_rate_hz, path.parent)
        store.settle(new)
        new.rename(path)
    except (OSError, soundfile.LibsndfileError) as error:
        why = getattr(error, "strerror", None) or "the disk refused"
        raise AudioError(f"{path.name}: cannot be written ({why}); nothing was kept.") from error
    finally:
        new.unlink(missing_ok=True)
    on_progress(1.0, "done")
    return path


def _contents(described: dict, name: str) -> tuple[bytes, list[str]]:
    """Return the description of a session as it is written, and the hashes of its recordings.

    What could not come back is not written: it is read as it will be then. Where the logbook is too long, its oldest Moves keep their words alone, and can no
    longer be undone. Raises AudioError.
    """
    contents = _written(described)
    moves, closed = described["moves"], 0
    while len(contents) > MOST_JSON_BYTES and closed < len(moves):
        closed = max(2 * closed, len(moves) // 8, 1)
        words = [move | {"before": {}, "after": {}, "schema": CLOSED} for move in moves[:closed]]
        contents = _written(described | {"moves": words + moves[closed:]})
    if len(contents) > MOST_JSON_BYTES:
        raise AudioError(
            f"{name}: what there is to say of the session is larger than {MOST_JSON_BYTES // 1024**2} MB; nothing was written."
        )
    try:
        return contents, Document.from_json(read_json(contents)).digests
    except (SettingsError, ValueError, RecursionError) as error:
        raise AudioError(
            f"{name}: could not be brought back as it stands ({str(error)[:300]}); nothing was written."
        ) from error


def _written(described: dict) -> bytes:
    return json.dumps(described, sort_keys=True).encode()


def _pack(bundle: zipfile.ZipFile, digest: str, rate: int, folder: Path) -> None:
    """Add a recording: FLAC where its samples are 24-bit steps, else WAV with float samples."""
    mic = opened(store.audio_folder(), digest)
    room.check(folder, 2 * room.bytes_of(mic.length, 1, rate, rate))  # beside the archive, and in it
    whole = all(_is_24_bit(block) for block in _blocks(mic))
    ending, subtype = ("flac", "PCM_24") if whole else ("wav", "FLOAT")
    with tempfile.NamedTemporaryFile(dir=folder, prefix=".new-", suffix=f".{ending}") as file:
        with soundfile.SoundFile(file.name, "w", rate, 1, subtype, format=ending.upper()) as sound:
            for block in _blocks(mic):
                sound.write((block * FULL_24).astype(np.int32) << 8 if whole else block)
        bundle.write(file.name, f"audio/{digest}.{ending}")


def _blocks(mic: audio.MicFile):
    for start in range(0, mic.length, BLOCK):
        yield mic.read(start, min(start + BLOCK, mic.length))


def _is_24_bit(block: np.ndarray) -> bool:
    steps = block * np.float32(FULL_24)
    return bool(np.all((steps == np.rint(steps)) & (steps < FULL_24) & (steps >= -FULL_24)))


def restore(
    path: Path,
    *,
    name: str | None = None,
    on_progress: Progress = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
    created: Callable[[int], None] = lambda session_id: None,
    allowed: Callable[[int], None] = lambda wanted_bytes: None,
) -> Session:
    """Make a new session of an archive, or nothing at all; ``allowed`` raises where so many bytes may not be kept.

    Raises AudioError where anything in it is not as it should be.
    """
    try:
        with zipfile.ZipFile(path) as bundle, store.being_written():
            entries = _checked_entries(bundle, path.name)
            with interruptible(cancelled):
                document = _document(_read_contents(bundle, path.name), entries, path.name)
            wanted, lengths = document.digests, {}
            for number, digest in enumerate(wanted):
                if cancelled():
                    raise CancelledError("Restoring was cancelled; nothing was kept.")
                on_progress(number / max(len(wanted), 1), f"recording {number + 1} of {len(wanted)}")
                lengths[digest] = _unpack(bundle, entries[digest], digest, document.sample_rate_hz, path.name)
                allowed(room.BYTES_PER_SAMPLE * sum(lengths.values()))
            with transaction.atomic():
                session = create(document.with_lengths(lengths), name)
                created(session.pk)
        cards.keep(session)
    except (zipfile.BadZipFile, zipfile.LargeZipFile, zlib.error, NotImplementedError, EOFError) as error:
        raise AudioError(f"{path.name}: is not a whole Arkund archive ({error}); copy it again.") from error
    except OSError as error:
        raise AudioError(f"{path.name}: cannot be restored ({error.strerror or error}); nothing was kept.") from error
    on_progress(1.0, "done")
    return session


def _checked_entries(bundle: zipfile.ZipFile, name: str) -> dict[str, zipfile.ZipInfo]:
    """Return the audio entries by hash; any other name, and any that would grow when unpacked, is refused."""
    out, seen = {}, set()
    if len(bundle.infolist()) > MOST_ENTRIES:
        raise AudioError(f"{name}: holds {len(bundle.infolist())} files; an archive has at most {MOST_ENTRIES}.")
    for info in bundle.infolist():
        match = AUDIO_NAME.fullmatch(info.filename)
        if info.filename in seen or (match is None and info.filename not in (CONTENTS, SUM)):
            raise AudioError(f"{name}: holds {info.filename[:80]!r}, which does not belong into an archive.")
        seen.add(info.filename)
        if match:
            if info.compress_type != zipfile.ZIP_STORED or info.file_size != info.compress_size:
                raise AudioError(f"{name}: {info.filename} is packed twice, which an archive's audio never is.")
            out[match[1]] = info
        elif info.file_size > MOST_JSON_BYTES:
            raise AudioError(f"{name}: {info.filename} is larger than {MOST_JSON_BYTES // 1024**2} MB.")
    if not {CONTENTS, SUM} <= seen:
        raise AudioError(f"{name}: is not an Arkund archive (no {CONTENTS} in it).")
    return out


def _read_contents(bundle: zipfile.ZipFile, name: str) -> dict:
    with bundle.open(CONTENTS) as file:
        data = file.read(MOST_JSON_BYTES + 1)
    if len(data) > MOST_JSON_BYTES or hashlib.sha256(data).hexdigest() != bundle.read(SUM).decode("ascii", "replace"):
        raise AudioError(f"{name}: {CONTENTS} does not match its checksum; copy the archive again.")
    try:
        contents = read_json(data)
    except (ValueError, RecursionError) as error:
        raise AudioError(f"{name}: {CONTENTS} is not JSON.") from error
    if not isinstance(contents, dict) or contents.get("arkund_archive") not in FORMATS:
        raise AudioError(
            f"{name}: is not an archive of a kind that this Arkund knows ({', '.join(map(str, FORMATS))})."
        )
    return contents


def _document(contents: dict, entries: dict, name: str) -> Document:
    """Check the description as a whole, so that everything after it can rely on it."""
    try:
        document = Document.from_json(contents)
        lacking = [digest for digest in document.digests if digest not in entries]
        if lacking:
            raise SettingsError(f"mics: {len(lacking)} of the recordings are not in it.")
    except (SettingsError, RecursionError) as error:
        raise AudioError(f"{name}: {CONTENTS} does not describe a session ({str(error)[:300]}).") from error
    return document


def _unpack(bundle: zipfile.ZipFile, info: zipfile.ZipInfo, digest: str, rate: int, name: str) -> int:
    """Bring a recording into the data folder and return its length. It is read and reckoned in any case: that a recording with this hash lies here already
    says nothing about what the archive holds, and who names a hash need not have the sound.
    """
    with tempfile.NamedTemporaryFile(dir=store.incoming_folder(), suffix=Path(info.filename).suffix) as file:
        with bundle.open(info) as packed:
            shutil.copyfileobj(packed, file)
        file.flush()
        header = audio.probe(Path(file.name))
        if (header.channels, header.sample_rate_hz) != (1, rate):
            raise AudioError(f"{name}: {info.filename} is not mono, or not of the rate that {CONTENTS} says.")
        room.check(store.audio_folder(), room.bytes_of(header.frames, 1, rate, rate))
        made = audio.ingest(Path(file.name), store.audio_folder(), rate, wanted=digest)[0]
    return made.length
