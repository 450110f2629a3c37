"""The recordings of a session as the core reads them, and the hits of its takes as they stand."""

import hashlib
import json

from arkund.core import tasks
from arkund.core.files.library import Library
from arkund.core.hits.resolve import Hit, resolve
from arkund.core.hits.settings import channels_of
from arkund.core.plan.plan import Plan
from arkund.core.takes.process import joined_rows
from arkund.studio.models import Measured, MicRecording, Session
from arkund.studio.services import places, store

FINDER_VERSION = 7  # raised when hits are found in another way


def recordings_of(session: Session) -> Library:
    """Return a session's takes as the core reads them."""
    rows = MicRecording.objects.filter(take__session=session)
    rows = list(rows.values_list("take__key", "take__length", "mic", "digest"))
    return Library(
        folder=store.audio_folder(),
        sample_rate_hz=session.sample_rate_hz,
        files={(take, mic): sha for take, _, mic, sha in rows},
        lengths={take: length for take, length, _, _ in rows},
    )


def find(session: Session, plan: Plan, take_key: str, on_progress=lambda share: None) -> dict[str, list]:
    """Find a take's hits and keep them: by piece, rows of time_s, level_db and sureness."""
    recordings = recordings_of(session)
    mics = [mic for mic in plan.mics if recordings.content(take_key, mic.id)]
    channels = channels_of(mics)
    found = {}
    if any(c.close and c.first for c in channels):
        names = [mic.id for mic in mics]
        found = places.run(
            tasks.hits_of_take, recordings, take_key, names, channels, on_progress=lambda share, _: on_progress(share)
        )
    rows = {
        piece: [[round(h.time_s, 7), round(h.level_db, 3), round(h.sure, 3)] for h in mine]
        for piece, mine in found.items()
    }
    keep(session, plan, take_key, rows)
    return rows


def keep(session: Session, plan: Plan, take_key: str, rows: dict[str, list]) -> None:
    """Keep the rows of :func:`find`."""
    Measured.objects.get_or_create(pk=_hits_key(session, plan, take_key), defaults={"session": session, "data": rows})


def find_all(session: Session, on_progress=lambda share: None) -> None:
    """Find the hits of all takes, the working take's first."""
    plan = session.plan
    keys = sorted(session.takes.values_list("key", flat=True), key=lambda key: key != plan.take)
    for number, key in enumerate(keys):
        find(session, plan, key, lambda share, number=number: on_progress((number + share) / len(keys)))


def found(session: Session, plan: Plan, take_key: str) -> dict[str, list] | None:
    """Return the rows of :func:`find` for the mics as they are named now, or None where they were not found yet."""
    kept = Measured.objects.filter(pk=_hits_key(session, plan, take_key)).first()
    return kept.data if kept else None


def hits_of(session: Session, plan: Plan, take_key: str | None = None) -> dict[str, list[Hit]]:
    """Return the hits of a take by piece, found first where they were not yet, with the Plan's corrections."""
    key = take_key or plan.take
    if key != plan.take:
        return resolve(rows_of(session, plan, key), ())
    return resolve(rows_of(session, plan, key), plan.hit_changes, placed_hits(plan, session.sample_rate_hz))


def placed_hits(plan: Plan, sample_rate_hz: int) -> list[tuple[str, float, float]]:
    """Return what stands in the place of hits, or where one was missing: (piece, time_s, level_db in the drum's own mic)."""
    captures = {capture.id: capture for capture in plan.captures}
    placed = ((captures[each.capture], each) for each in plan.placements)
    return [(c.piece, each.at / sample_rate_hz, round(c.level_db + each.gain_db, 2)) for c, each in placed]


def hits_depend(plan: Plan) -> tuple:
    """Return all of a Plan that its working take's hits depend on."""
    mics = [(mic.id, mic.piece, mic.role) for mic in plan.mics]
    return plan.take, plan.joins, plan.hit_changes, mics, placed_hits(plan, 1)


def rows_of(session: Session, plan: Plan, take_key: str) -> dict[str, list]:
    """Return the rows of :func:`find`, found first where they were not yet; of the working take as the Plan joins it."""
    takes = {take_key}
    if take_key == plan.take:
        takes |= {join.take for join in plan.joins}
    rows = {}
    for take in sorted(takes):
        kept = found(session, plan, take)
        rows[take] = find(session, plan, take) if kept is None else kept
    return joined_rows(rows, plan, session.sample_rate_hz) if take_key == plan.take and plan.joins else rows[take_key]


def _hits_key(session: Session, plan: Plan, take_key: str) -> str:
    """Return the hash of all that a take's hits depend on: its audio, which mic is whose, and the way they are found."""
    audio = dict(MicRecording.objects.filter(take__session=session, take__key=take_key).values_list("mic", "digest"))
    mics = [mic for mic in plan.mics if mic.id in audio]
    rows = [[audio[mic.id], c.piece, c.close, c.first] for mic, c in zip(mics, channels_of(mics), strict=True)]
    content = json.dumps(["hits", FINDER_VERSION, session.sample_rate_hz, rows])
    return hashlib.sha256(content.encode()).hexdigest()
