"""The backing track: the rest of the music, kept beside the takes, listened to with the drums, never printed into them."""

from pathlib import Path

from django.db import transaction

from arkund.core.files import audio
from arkund.core.render.source import BACKING, BACKING_SIDES
from arkund.studio.models import MicRecording, Move, Session, Take
from arkund.studio.services import cards, moves, store


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
