"""Import: a folder of files becomes a session with takes and named mics, or nothing at all."""

import functools
import operator
import threading
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass, replace
from pathlib import Path

from django.db import transaction
from django.utils.text import slugify

from arkund.core.errors import AudioError, CancelledError
from arkund.core.files import audio, room
from arkund.core.files.stamps import stamps
from arkund.core.kit.names import NOTHING, Recognised, recognise_folder
from arkund.core.kit.pieces import kit_order
from arkund.core.load.naming import settled
from arkund.core.plan.plan import MicPlan, Plan, Tempo
from arkund.core.rig import usual
from arkund.core.timing.bars import meter_of
from arkund.studio.models import MicRecording, Session, Take
from arkund.studio.services import cards, store
from arkund.studio.services.folders import leads_s, midi_beside, song_of, stem_of, takes_by_name, takes_in, usable_files


@dataclass(frozen=True, slots=True)
class _Row:
    """One channel of a file: of which take, which side of a stereo file, and once it is known what its mic is called and is."""

    take: str
    path: Path
    channel: audio.Channel
    side: str
    name: str = ""
    known: Recognised = NOTHING


READERS = 2  # files that are read at the same time
TELL_EVERY_S = 0.1
CANCELLED = "The import was cancelled; nothing was kept."
Progress = Callable[[float, str], None]


def import_folder(
    folder: Path,
    *,
    name: str | None = None,
    bpm: float | None = None,
    meter: str = "4/4",
    on_progress: Progress = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
    created: Callable[[int], None] = lambda session_id: None,
    allowed: Callable[[int], None] = lambda wanted_bytes: None,
) -> Session:
    """Import all recordings of a folder; its sub-folders are takes.

    Files that cannot be used are named in the session's warnings; where none can be used, AudioError lists why. The session becomes
    visible only when everything has been written; ``created`` is told its id in the same transaction. ``allowed`` raises where
    so many bytes may not be kept.
    """
    folder = folder.absolute()  # “.” has no name
    if not folder.is_dir():
        raise AudioError(f"{folder.name}: is not a folder; give the folder that holds the recordings.")
    tempo = tempo_of(bpm, meter)
    with store.being_written():
        return _import(folder, name, tempo, on_progress, cancelled, created, allowed)


def _import(folder: Path, name: str | None, tempo: Tempo, on_progress, cancelled, created, allowed) -> Session:
    takes = takes_by_name(takes_in(folder))
    warnings: list[str] = []
    usable = usable_files(takes, warnings)
    stamped = {path: stamps(path) for mine in usable.values() for path, _ in mine}
    leads = leads_s(usable, stamped, warnings)
    map_of_file = midi_beside(folder, warnings)
    rate = Counter(
        header.sample_rate_hz for _, header in functools.reduce(operator.iadd, usable.values(), [])
    ).most_common(1)[0][0]
    rows: list[_Row] = []
    files = [(take, path, header) for take, mine in usable.items() for path, header in mine]
    needed = sum(room.bytes_of(each.frames, each.channels, each.sample_rate_hz, rate) for *_, each in files)
    room.check(store.audio_folder(), needed)
    allowed(needed)
    ingested = _ingested(files, rate, leads, on_progress, cancelled)
    for (take, path, header), channels in zip(files, ingested, strict=True):
        if isinstance(channels, AudioError):
            warnings.append(str(channels))
            continue
        if header.sample_rate_hz != rate:
            warnings.append(
                f"{audio.readable(path.name)}: {header.sample_rate_hz} Hz, converted to the session's {rate} Hz."
            )
        rows += _channels(take, path, channels, warnings)
    if not rows:
        raise AudioError("No usable recording: " + " ".join(warnings[:5]))
    rows = _named(rows, {path: each.name for path, each in stamped.items()}, rate)
    if cancelled():
        raise CancelledError(CANCELLED)
    with transaction.atomic():
        session = _create(name or folder.name, rate, rows, song_of(tempo, map_of_file, stamped, files), warnings)
        created(session.pk)
    cards.keep(session)
    return session


def _ingested(
    files: list[tuple], rate: int, leads: dict[Path, float], on_progress: Progress, cancelled
) -> list[list[audio.Channel] | AudioError]:
    """Return the channels of each file (take, path, header), or why it cannot be used; READERS files are read at the same time.

    Progress is told by the thread that asks: what it tells may be the database's.
    """
    total = sum(header.frames * header.channels for *_, header in files)
    done: dict[Path, float] = {}
    stop = threading.Event()

    def ingest(take: str, path: Path, header: audio.Probe) -> list[audio.Channel] | AudioError:
        def report(share: float) -> None:
            done[path] = share * header.frames * header.channels
            if stop.is_set():
                raise CancelledError(CANCELLED)

        report(0.0)
        try:
            return audio.ingest(path, store.audio_folder(), rate, report, round(leads.get(path, 0.0) * rate))
        except AudioError as error:
            return error

    with ThreadPoolExecutor(READERS) as pool:
        futures = [pool.submit(ingest, *file) for file in files]
        waiting = set(futures)
        try:
            while waiting:
                _, waiting = wait(waiting, TELL_EVERY_S)
                now = done.copy()
                on_progress(sum(now.values()) / total, next(reversed(now)).name if now else "")
                if cancelled():
                    raise CancelledError(CANCELLED)
        finally:
            stop.set()
        return [future.result() for future in futures]


def tempo_of(bpm: float | None, meter: str) -> Tempo:
    """Return what was typed of tempo and meter. Raises SettingsError."""
    beats, unit = meter_of(meter)
    return Tempo(bpm=120.0 if bpm is None else bpm, beats_per_bar=beats, beat_unit=unit)


def _channels(take: str, path: Path, channels: list[audio.Channel], warnings: list[str]) -> list[_Row]:
    warnings += [
        words
        for each in channels
        for words in audio.notices(each, audio.readable(path.name) if take == "" else f"{take}/{path.name}")
    ]
    sides = "LR" if len(channels) == 2 else [""]
    return [_Row(take, path, channel, side) for channel, side in zip(channels, sides, strict=True)]


def _named(rows: list[_Row], track_names: dict[Path, str], rate: int) -> list[_Row]:
    """Return the channels with what their mics are called, and what that says: of each take together, where names leave it open also by their sound."""
    out: list[_Row] = []
    for take in dict.fromkeys(row.take for row in rows):
        mine = [row for row in rows if row.take == take]
        told = _told(list(dict.fromkeys(row.path for row in mine)), take, track_names)
        known = settled([told[row.path][1] for row in mine], [audio.MicFile(row.channel.path) for row in mine], rate)
        for row, found in zip(mine, known, strict=True):
            name = told[row.path][0] + (f" {row.side}" if row.side else "")
            out.append(replace(row, name=name, known=replace(found, side=row.side or found.side)))
    return out


def _told(paths: list[Path], take: str, track_names: dict[Path, str]) -> dict[Path, tuple[str, Recognised]]:
    """Return what the files of a take are called and what that says; where a file's name says nothing, what the recorder called the track may say more."""
    stems = [stem_of(path, take) for path in paths]
    tracks = [track_names.get(path) or stem for path, stem in zip(paths, stems, strict=True)]
    out = {}
    by_name, by_track = recognise_folder(stems), recognise_folder(tracks)
    for path, stem, track, name, other in zip(paths, stems, tracks, by_name, by_track, strict=True):
        better = name.confidence == 0.0 and other.confidence > 0.0
        out[path] = (track, other) if better else (stem, name)
    return out


def _create(name: str, rate: int, rows: list[_Row], song: dict, warnings: list[str]) -> Session:
    name = audio.readable(name)
    mics: dict[str, MicPlan] = {}
    placed: list[tuple[str, str, str, audio.Channel, float]] = []
    used: set[tuple[str, str]] = set()
    for row in rows:
        take, file, channel, stem, known = row.take, audio.readable(row.path.name), row.channel, row.name, row.known
        base = slugify(stem)[:50] or "mic"
        mic_id, number = base, 2
        while (take, mic_id) in used:
            mic_id, number = f"{base}-{number}", number + 1
        if mic_id != base:
            warnings.append(f"{file}: another file has the same name; this one is called {mic_id}.")
        used.add((take, mic_id))
        if mic_id not in mics:
            shown = "".join(c for c in stem if c.isprintable())[:80] or mic_id
            mics[mic_id] = MicPlan(
                id=mic_id, name=shown, piece=known.piece, role=known.role, side=known.side, tools=usual.mic_row()
            )
        placed.append((take, mic_id, file, channel, known.confidence))
    takes = list(dict.fromkeys(take for take, *_ in placed))
    ordered = sorted(mics.values(), key=kit_order)
    keys = {take: f"take-{number}" for number, take in enumerate(takes, 1)}
    _lengths_differ(placed, rate, warnings)
    for take in takes:
        lacking = [mic.name for mic in ordered if (take, mic.id) not in used]
        if lacking:
            warnings.append(
                f"{Path(take).name or 'the takes beside the folders'}: lacks {', '.join(lacking)}; silent there."
            )
    plan = Plan(take=keys[takes[0]], mics=tuple(ordered), kit=usual.kit(), **song)
    with transaction.atomic():
        session = Session.objects.create(
            name=name[:120],
            sample_rate_hz=rate,
            plan_json=plan.to_json(),
            warnings=[audio.readable(each) for each in warnings],
            ready=True,
        )
        for take in takes:
            mine = [row for row in placed if row[0] == take]
            record = Take.objects.create(
                session=session,
                key=keys[take],
                name=audio.readable(Path(take).name or "Take 1")[:120],
                length=max(channel.length for *_, channel, _ in mine),
            )
            MicRecording.objects.bulk_create(
                MicRecording(
                    take=record,
                    mic=mic_id,
                    file=file[:255],
                    digest=channel.digest,
                    length=channel.length,
                    peak_db=channel.peak_db,
                    clipped=channel.clipped,
                    confidence=confidence,
                )
                for _, mic_id, file, channel, confidence in mine
            )
    return session


def _lengths_differ(placed: list[tuple], rate: int, warnings: list[str]) -> None:
    for take in {row[0] for row in placed}:
        lengths = {row[2]: row[3].length for row in placed if row[0] == take}
        longest = max(lengths.values())
        for file, length in lengths.items():
            if longest - length > rate // 10:
                warnings.append(
                    f"{file}: {(longest - length) / rate:.1f} s shorter than the longest of its take; silent there."
                )
