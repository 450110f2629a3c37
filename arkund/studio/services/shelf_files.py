"""Hits that come to a session's shelf from files, folders and other sessions, and the shelf that leaves as a folder."""

import tempfile
from collections.abc import Iterable, Sequence
from pathlib import Path

import numpy as np
import soundfile
import soxr
from django.db import transaction

from arkund.core.errors import SettingsError
from arkund.core.files import audio, checksum, room
from arkund.core.kit.pieces import PIECES
from arkund.core.plan.plan import SHELF, Capture, Part
from arkund.core.replace import shelf, shelf_folder
from arkund.core.replace.shelf_folder import ShelfHit, Sound
from arkund.core.tools.tool import free_id
from arkund.studio.models import MicRecording, Move, Session, Take
from arkund.studio.services import cards, moves, shelving, store, uploads
from arkund.studio.services.measuring import Measure

MOST_FILES = 200
KEY_LENGTH = 40  # of a recording's hash, by which the shelf names it
SHORTEST = 20_000  # samples: what is shorter is filled up with silence


def load(session: Session, paths: Sequence[Path], piece: str, version: int | None = None) -> tuple[Move, str]:
    """Take one-shots of a drum in from files, or a shelf's folder by its description among them; return the Move and what is to be told.

    Raises AudioError for what is no hit; nothing is taken then.
    """
    described = next((path for path in paths if path.name == shelf_folder.CONTENTS), None)
    if described:
        hits, sounds = shelf_folder.read(described.parent, session.sample_rate_hz)
        return _keep(session, hits, sounds, f"{len(hits)} hits of a shelf", version=version), ""
    if piece not in PIECES:
        raise SettingsError(f"piece: expected one of {', '.join(PIECES)}; got {piece[:40]!r}.")
    if not 0 < len(paths) <= MOST_FILES:
        raise SettingsError(f"files: give 1 to {MOST_FILES} at once, got {len(paths)}.")
    paths = sorted(paths, key=lambda path: path.name)
    read = [shelf_folder.read_one(path, session.sample_rate_hz) for path in paths]
    strengths = shelf.strengths_db([path.stem for path in paths], [one.peak_db for _, one in read])
    hits = [
        ShelfHit(
            name=path.stem[:80],
            piece=piece,
            origin=f"file {path.name}"[:200],
            at=one.at,
            length=samples.size - one.at,
            level_db=one.peak_db,
            strength_db=strength,
        )
        for path, (samples, one), strength in zip(paths, read, strengths, strict=True)
    ]
    told = " ".join(words for _, one in read for words in one.told)
    title = f"{len(paths)} hits of {piece} from files" if len(paths) > 1 else f"{piece} hit {paths[0].name}"
    return _keep(session, hits, [[("close", samples)] for samples, _ in read], title, told, version), told


def take_over(session: Session, other: Session, user: int | None = None, version: int | None = None) -> Move:
    """Take the hits of another session's shelf over, with their sounds in the mics of their drum. Raises SettingsError where it is empty."""
    measure = Measure(other)
    described = _described(measure)
    if not described:
        raise SettingsError(f"shelf: {other.name} has no hits on its shelf.")
    to, of = session.sample_rate_hz, other.sample_rate_hz
    hits = [hit if to == of else hit.at_rate(to / of) for hit, _ in described]
    wanted = sum(len(shelving.sources_of(measure, mine)) * (mine.before + mine.length) for _, mine in described)
    uploads.check_share(user, round(room.BYTES_PER_SAMPLE * wanted * to / of))
    title = f"{len(hits)} hits from the shelf of {other.name}"[:200]
    sounds = (
        shelving.sounds(measure, mine) for _, mine in described
    )  # one hit after the other: a shelf may hold hours
    at_rate = sounds if to == of else ([(role, _resampled(x, of, to)) for role, x in row] for row in sounds)
    return _keep(session, hits, at_rate, title, version=version)


def _resampled(x: np.ndarray, of_hz: int, to_hz: int) -> np.ndarray:
    return soxr.resample(x, of_hz, to_hz).astype(np.float32)


def save(session: Session, folder: Path) -> int:
    """Write a session's shelf into a new folder; return how many hits. Raises SettingsError where it is empty."""
    measure = Measure(session)
    described = _described(measure)
    if not described:
        raise SettingsError("shelf: is empty; keep some hits first.")
    sounds = (shelving.sounds(measure, mine) for _, mine in described)
    shelf_folder.write(folder, session.sample_rate_hz, [hit for hit, _ in described], sounds)
    return len(described)


def _described(measure: Measure) -> list[tuple[ShelfHit, Capture]]:
    """Return the hits of a session's shelf that sound anywhere, as a folder describes them; those of the song are as strong as they are loud."""
    captures = [mine for mine in measure.plan.captures if shelving.sources_of(measure, mine)]
    loudest = {c.piece: max(o.level_db for o in captures if o.piece == c.piece and not o.parts) for c in captures if not c.parts}  # fmt: skip
    hits = [
        ShelfHit(
            name=mine.name or mine.id,
            piece=mine.piece,
            origin=mine.origin or f"{measure.session.name}, {mine.at / measure.rate:.2f} s"[:200],
            at=mine.before,
            length=mine.length,
            level_db=mine.level_db,
            strength_db=mine.strength_db if mine.parts else round(mine.level_db - loudest[mine.piece], 2),
        )
        for mine in captures
    ]
    return list(zip(hits, captures, strict=True))


def _keep(
    session: Session,
    hits: Sequence[ShelfHit],
    sounds: Iterable[Sequence[Sound]],
    title: str,
    told: str = "",
    version: int | None = None,
) -> Move:
    """Keep hits with their sounds on a session's shelf, as one Move. Sounds that come one after the other are let go of one after the other."""
    with store.being_written(), tempfile.TemporaryDirectory(dir=store.incoming_folder()) as folder:
        known: dict[str, audio.Channel] = {}  # many hits may lie in one file
        kept = [[(role, _ingested(samples, session, Path(folder), known)) for role, samples in row] for row in sounds]
        with transaction.atomic():
            fields = {"name": SHELF, "kind": Take.SHELF}
            take, _ = Take.everything.get_or_create(session=session, key=SHELF, defaults=fields)
            for hit, row in zip(hits, kept, strict=True):
                for _, channel in row:
                    fields = {"file": hit.name, "digest": channel.digest, "length": channel.length}
                    MicRecording.objects.get_or_create(
                        take=take, mic=channel.digest[:KEY_LENGTH], defaults=fields | {"peak_db": channel.peak_db}
                    )
            take.length = max(take.mics.values_list("length", flat=True), default=0)
            take.save(update_fields=["length"])
            now = Session.objects.get(pk=session.pk)
            plan = now.plan
            rows = shelf.with_captures(plan, _captures(hits, kept, {c.id for c in plan.captures}))
            changes = {"captures": [c.to_json() for c in rows]}
            move = moves.apply(
                session.pk,
                changes,
                step="replace",
                title=title,
                measured=told[:600],
                version=moves.read_at(now, version),
                elsewhere=True,
            )
        cards.keep(Session.objects.get(pk=session.pk))
    return move


def _captures(
    hits: Sequence[ShelfHit], kept: Sequence[Sequence[tuple[str, audio.Channel]]], taken: set[str]
) -> list[Capture]:
    out = []
    for hit, row in zip(hits, kept, strict=True):
        key = free_id(f"{hit.piece}-{row[0][1].digest[:10]}", taken)
        taken.add(key)
        out.append(
            Capture(
                id=key,
                name=hit.name,
                origin=hit.origin,
                piece=hit.piece,
                take=SHELF,
                at=hit.at,
                before=hit.at,
                length=hit.length,
                level_db=hit.level_db,
                strength_db=hit.strength_db,
                parts=tuple(Part(role=role, key=channel.digest[:KEY_LENGTH]) for role, channel in row),
            )
        )
    return out


def _ingested(samples: np.ndarray, session: Session, folder: Path, known: dict[str, audio.Channel]) -> audio.Channel:
    """Bring samples into the data folder, once; known : what was brought before, by its checksum."""
    filled = np.pad(samples, (0, max(SHORTEST - samples.size, 0)))
    digest = checksum.fresh(filled.tobytes()).hexdigest()
    if digest not in known:
        path = folder / "hit.wav"
        soundfile.write(path, filled, session.sample_rate_hz, subtype="FLOAT")
        known[digest] = audio.ingest(path, store.audio_folder(), session.sample_rate_hz)[0]
    return known[digest]
