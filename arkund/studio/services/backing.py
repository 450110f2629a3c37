"""The backing track: the rest of the music, kept beside the takes, listened to with the drums, never printed into them."""

import dataclasses
from pathlib import Path

import numpy as np
from django.db import transaction

from arkund.core.blend.music import OCTAVES_HZ
from arkund.core.blend.music import against as kit_against
from arkund.core.files import audio
from arkund.core.plan.plan import Backing
from arkund.core.render.source import BACKING, BACKING_SIDES, backing_span
from arkund.core.rig.places import KIT
from arkund.core.timing.bars import section_spans_s
from arkund.core.units import db_to_gain
from arkund.studio.models import MicRecording, Move, Session, Take
from arkund.studio.services import cards, moves, store
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered

PART_S = 8.0  # of a section, from its middle
MOST_SECTIONS = 24


def load(session: Session, path: Path, version: int | None = None) -> Move:
    """Take a mono or stereo file in as the session's backing track, in the place of a former one, and switch it on as a Move.

    Raises AudioError where it cannot be read.
    """
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
                session.pk, {"backing.on": True}, step="load", title=f"Backing track {path.name}", version=version
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
    plan, length = measure.plan, measure.recordings.length(measure.plan.take)
    name = name_of(measure.session) if plan.backing.on else ""

    def compute() -> dict:
        rows = []
        for name, span in _parts(measure, length):
            kit = rendered(plan, measure.recordings, span, KIT)
            music = backing_span(plan, measure.recordings, *span) * np.float32(db_to_gain(plan.backing.level_db))
            if (found := kit_against(kit, music, measure.rate)) is not None:
                rows.append(
                    {"name": name, "span_s": [each / measure.rate for each in span]} | dataclasses.asdict(found)
                )
        return {"rows": rows}

    rows = measure.kept("music", [plan.to_json(), name], compute)["rows"] if name else []
    apart = float(np.median([row["kit_lufs"] - row["music_lufs"] for row in rows])) if rows else 0.0
    limits = Backing.ranges()["level_db"]
    level = float(np.clip(round(2.0 * (plan.backing.level_db + apart)) / 2.0, limits.low, limits.high))
    return {"rows": rows, "octaves_hz": list(OCTAVES_HZ), "as_loud_db": level}


def _parts(measure: Measure, length: int) -> list[tuple[str, tuple[int, int]]]:
    """Return the middle of each section, and the busiest part of a song without any."""
    spans_s = section_spans_s(measure.plan, length / measure.rate)[:MOST_SECTIONS]
    if len(spans_s) < 2:
        return [("busiest part", measure.busy_span())]
    out = []
    for section, (begin_s, end_s) in zip(measure.plan.sections, spans_s, strict=False):
        middle, half = 0.5 * (begin_s + end_s), 0.5 * min(end_s - begin_s, PART_S)
        out.append((section.name, (int((middle - half) * measure.rate), int((middle + half) * measure.rate))))
    return out
