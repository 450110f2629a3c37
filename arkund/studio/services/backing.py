"""The backing track: the rest of the music, kept beside the takes, listened to with the drums, never printed into them."""

import dataclasses
from collections.abc import Callable
from pathlib import Path

from django.db import transaction

from arkund.core.blend import music as music_against
from arkund.core.blend.music import BEHIND_MS, Against, middle_of
from arkund.core.dsp.spectrum import OCTAVES_HZ
from arkund.core.files import audio, room
from arkund.core.render.source import BACKING, BACKING_SIDES, backing_span
from arkund.core.rig.places import KIT
from arkund.core.timing.bars import section_spans_s
from arkund.studio.models import MicRecording, Move, Session, Take
from arkund.studio.services import cards, moves, store
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered

MOST_SECTIONS = 24


def load(
    session: Session, path: Path, version: int | None = None, allowed: Callable[[int], None] = lambda wanted_bytes: None
) -> Move:
    """Take a mono or stereo file in as the session's backing track, in the place of a former one, and switch it on as a Move.

    ``allowed`` raises where so many bytes, of what it unpacks to, may not be kept. Raises AudioError where it cannot be read.
    """
    header = audio.probe(path)
    allowed(room.bytes_of(header.frames, header.channels, header.sample_rate_hz, session.sample_rate_hz))
    with store.being_written():
        channels = audio.ingest(path, store.audio_folder(), session.sample_rate_hz)
        both = channels if len(channels) == 2 else channels * 2
        with transaction.atomic():
            Take.everything.filter(session=session, kind=Take.BACKING).delete()
            take = Take.everything.create(
                session=session, key=BACKING, name=path.name[:120], length=channels[0].length, kind=Take.BACKING
            )
            MicRecording.objects.bulk_create(
                MicRecording(
                    take=take,
                    mic=side,
                    file=path.name[:255],
                    digest=each.digest,
                    length=each.length,
                    peak_db=each.peak_db,
                )
                for side, each in zip(BACKING_SIDES, both, strict=True)
            )
            move = moves.apply(
                session.pk,
                {"backing.on": True},
                step="load",
                title=f"Backing track {path.name}",
                version=moves.read_at(session, version),
                elsewhere=True,
            )
        cards.keep(Session.objects.get(pk=session.pk))
    return move


def name_of(session: Session) -> str:
    """Return the backing track's file name, nothing where there is none."""
    found = Take.everything.filter(session=session, kind=Take.BACKING).first()
    return found.name if found else ""


def against(measure: Measure) -> dict:
    """Return how the kit stands against the music, section by section as they are heard together, and the level at which both are as loud over all of them;
    no rows without a backing track that is on.
    """
    plan = measure.plan
    name = name_of(measure.session) if plan.backing.on else ""

    def compute() -> dict:
        rows = []
        for section, span in _parts(measure):
            kit, music = rendered(plan, measure.recordings, span, KIT), backing_span(plan, measure.recordings, *span)
            found = music_against.against(kit, music, plan.backing.level_db, measure.rate)
            rows += [{"name": section} | dataclasses.asdict(found)] if found else []
        return {"rows": rows}

    sides = [measure.recordings.content(BACKING, side) for side in BACKING_SIDES]
    rows = measure.kept("music", [plan.to_json(), sides], compute)["rows"] if name else []
    found = [Against(**{key: value for key, value in row.items() if key != "name"}) for row in rows]
    as_loud_db = music_against.as_loud_db(found, plan.backing.level_db)
    behind = {"behind_ms": plan.backing.behind_ms, "choices_ms": BEHIND_MS}
    return {"rows": rows, "octaves_hz": list(OCTAVES_HZ), "as_loud_db": as_loud_db} | behind


def _parts(measure: Measure) -> list[tuple[str, tuple[int, int]]]:
    """Return the middle of each section, and the busiest part of a song without any."""
    plan, rate = measure.plan, measure.rate
    spans_s = section_spans_s(plan, measure.recordings.length(plan.take) / rate)
    if len(spans_s) < 2:
        return [("busiest part", measure.busy_span())]
    return [(section.name, middle_of(*span_s, rate)) for section, span_s in zip(plan.sections, spans_s, strict=True)][
        :MOST_SECTIONS
    ]
