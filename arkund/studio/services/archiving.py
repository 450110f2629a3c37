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
from arkund.core.files import audio
from arkund.core.files.library import opened
from arkund.core.plan.plan import Plan
from arkund.core.settings import read_json
from arkund.studio.models import Decision, MicRecording, Move, Session, Take
from arkund.studio.services import recordings, store

FORMAT = 1
CONTENTS, SUM = "session.json", "session.sha256"
AUDIO_NAME = re.compile(r"audio/([0-9a-f]{64})\.(flac|wav)")
MOST_JSON_BYTES = 64 * 1024**2
MOST_ENTRIES = 20_000
MOST_LENGTH_S = 10 * 3600
BLOCK = 1 << 18
FULL_24 = 1 << 23
MOVE_FIELDS = ("number", "made_on", "step", "title", "reason", "measured", "before", "after", "state")
DECISION_FIELDS = ("key", "verdict", "reason", "title", "step")
MIC_FIELDS = ("mic", "file", "digest", "length", "peak_db", "clipped", "confidence")
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
    contents = json.dumps(_contents(session), indent=1, sort_keys=True).encode()
    new = path.with_name(f".new-{uuid.uuid4().hex}")
    hashes = sorted(set(MicRecording.objects.filter(take__session=session).values_list("digest", flat=True)))
    try:
        with zipfile.ZipFile(new, "x", zipfile.ZIP_STORED) as bundle:
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


def _contents(session: Session) -> dict:
    plan = session.plan
    takes = [
        {
            "key": take.key,
            "name": take.name,
            "length": take.length,
            "kind": take.kind,
            "mics": list(take.mics.values(*MIC_FIELDS)),
        }
        for take in Take.everything.filter(session=session)
    ]
    return {
        "arkund_archive": FORMAT,
        "name": session.name,
        "sample_rate_hz": session.sample_rate_hz,
        "plan": session.plan_json,
        "version": session.version,
        "warnings": session.warnings,
        "takes": takes,
        "moves": list(session.moves.values(*MOVE_FIELDS)),
        "decisions": list(session.decisions.values(*DECISION_FIELDS)),
        "hits": {t["key"]: recordings.found(session, plan, t["key"]) for t in takes if t["kind"] == Take.DRUMS},
    }


def _pack(bundle: zipfile.ZipFile, digest: str, rate: int, folder: Path) -> None:
    """Add a recording: FLAC where its samples are 24-bit steps, else WAV with float samples."""
    mic = opened(store.audio_folder(), digest)
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
) -> Session:
    """Make a new session of an archive, or nothing at all. Raises AudioError where anything in it is not as it should be."""
    try:
        with zipfile.ZipFile(path) as bundle, store.being_written():
            entries = _checked_entries(bundle, path.name)
            contents = _read_contents(bundle, path.name)
            _check_contents(contents, entries, path.name)
            wanted = sorted({mic["digest"] for take in contents["takes"] for mic in take["mics"]})
            for number, digest in enumerate(wanted):
                if cancelled():
                    raise CancelledError("Restoring was cancelled; nothing was kept.")
                on_progress(number / max(len(wanted), 1), f"recording {number + 1} of {len(wanted)}")
                _unpack(bundle, entries[digest], digest, contents, path.name)
            with transaction.atomic():
                session = _create(contents, name)
                created(session.pk)
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
    if not isinstance(contents, dict) or contents.get("arkund_archive") != FORMAT:
        raise AudioError(f"{name}: is not an archive of a kind that this Arkund knows ({FORMAT}).")
    return contents


def _check_contents(contents: dict, entries: dict, name: str) -> None:
    """Check types, lengths and references, so that everything after it can rely on them."""
    try:
        plan = Plan.from_json(contents["plan"])
        rate = contents["sample_rate_hz"]
        if rate not in audio.RATES_HZ:
            raise SettingsError(f"sample_rate_hz: {rate!r} is not one of 44100 to 192000.")
        _texts(contents["name"], *contents["warnings"])
        known, lengths = {mic.id for mic in plan.mics}, {}
        for take in contents["takes"]:
            _texts(take["key"], take["name"])
            if take["kind"] not in (Take.DRUMS, Take.BACKING):
                raise SettingsError("takes: a kind that is not known.")
            _counts(take["length"], most=MOST_LENGTH_S * rate)
            for mic in take["mics"]:
                _texts(mic["mic"], mic["file"], mic["digest"])
                _counts(mic["length"], mic["clipped"], most=MOST_LENGTH_S * rate)
                float(mic["peak_db"] + mic["confidence"])
                if (mic["mic"] not in known and take["kind"] == Take.DRUMS) or mic["digest"] not in entries:
                    raise SettingsError(f"mics: {mic['file'][:80]} belongs to no mic of the plan or has no audio.")
                lengths[mic["digest"]] = mic["length"]
        keys = [take["key"] for take in contents["takes"] if take["kind"] == Take.DRUMS]
        if plan.take not in keys or len(set(keys)) != len(keys):
            raise SettingsError("takes: the plan's take is not among them, or one stands twice.")
        _counts(contents["version"], *(move[field] for move in contents["moves"] for field in ("number", "made_on")))
        for move in contents["moves"]:
            _texts(*(move[field] for field in ("step", "title", "reason", "measured", "state")))
            if not isinstance(move["before"], dict) or not isinstance(move["after"], dict):
                raise SettingsError("moves: before and after must be objects.")
        for decision in contents["decisions"]:
            _texts(*(decision[field] for field in DECISION_FIELDS))
        for rows in filter(None, contents["hits"].values()):
            for piece, hits in rows.items():
                _texts(piece)
                [float(value) for hit in hits for value in hit]
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        what = str(error) if isinstance(error, SettingsError) else f"{type(error).__name__}: {error}"
        raise AudioError(f"{name}: {CONTENTS} does not describe a session ({what[:300]}).") from error
    free = shutil.disk_usage(store.audio_folder().parent).free
    if 4 * sum(lengths.values()) > free:
        raise AudioError(f"{name}: needs {4 * sum(lengths.values()) / 1e9:.1f} GB, there are {free / 1e9:.1f} GB.")


def _texts(*values) -> None:
    if not all(isinstance(value, str) for value in values):
        raise TypeError("a text was expected")


def _counts(*values, most: int = 1 << 31) -> None:
    if not all(isinstance(value, int) and not isinstance(value, bool) and 0 <= value <= most for value in values):
        raise TypeError(f"a count between 0 and {most} was expected")


def _unpack(bundle: zipfile.ZipFile, info: zipfile.ZipInfo, digest: str, contents: dict, name: str) -> None:
    """Bring a recording into the data folder; it must be what its name says."""
    if store.audio_path(digest).exists():
        return
    lengths = {mic["length"] for take in contents["takes"] for mic in take["mics"] if mic["digest"] == digest}
    with tempfile.NamedTemporaryFile(dir=store.incoming_folder(), suffix=Path(info.filename).suffix) as file:
        with bundle.open(info) as packed:
            shutil.copyfileobj(packed, file)
        file.flush()
        header = audio.probe(Path(file.name))
        if {header.frames} != lengths or (header.channels, header.sample_rate_hz) != (1, contents["sample_rate_hz"]):
            raise AudioError(f"{name}: {info.filename} is not as long, or not of the rate, that {CONTENTS} says.")
        made = audio.ingest(Path(file.name), store.audio_folder(), header.sample_rate_hz)[0]
    if made.digest != digest:
        raise AudioError(f"{name}: {info.filename} does not hold the samples that its name promises.")


def _create(contents: dict, name: str | None) -> Session:
    session = Session.objects.create(
        name=(name or contents["name"])[:120],
        sample_rate_hz=contents["sample_rate_hz"],
        plan_json=Plan.from_json(contents["plan"]).to_json(),
        version=contents["version"],
        warnings=contents["warnings"],
        ready=True,
    )
    for row in contents["takes"]:
        take = Take.everything.create(
            session=session, key=row["key"][:40], name=row["name"][:120], length=row["length"], kind=row["kind"]
        )
        MicRecording.objects.bulk_create(
            MicRecording(take=take, **{field: mic[field] for field in MIC_FIELDS}) for mic in row["mics"]
        )
    for model, rows, fields in ((Move, "moves", MOVE_FIELDS), (Decision, "decisions", DECISION_FIELDS)):
        model.objects.bulk_create(
            model(session=session, **{field: row[field] for field in fields}) for row in contents[rows]
        )
    for take, rows in contents["hits"].items():
        if rows is not None:
            recordings.keep(session, session.plan, take, rows)
    return session
