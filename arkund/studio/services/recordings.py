"""The recordings of a session as the core reads them, and the hits of its takes as they stand."""

import functools

from django.db import transaction

from arkund.core.files.audio import MicFile
from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import Hit, resolve
from arkund.core.hits.settings import Channel, HitSettings
from arkund.core.kit.pieces import is_close, timing_mic
from arkund.core.plan.plan import Plan
from arkund.studio.models import FoundHit, MicRecording, Session, Take
from arkund.studio.services import store


@functools.lru_cache(maxsize=256)
def _open(sha256: str) -> MicFile:
    return MicFile(store.audio_path(sha256))


class SessionRecordings:
    """A session's takes, memory-mapped; satisfies the core's ``Recordings``."""

    def __init__(self, session: Session) -> None:
        self.sample_rate_hz = session.sample_rate_hz
        rows = MicRecording.objects.filter(take__session=session).values_list("take__key", "mic", "sha256")
        self._files = {(take, mic): sha for take, mic, sha in rows}
        self._lengths = dict(Take.objects.filter(session=session).values_list("key", "length"))

    def mic(self, take: str, mic_id: str) -> MicFile | None:
        """Return a mic of a take, or None where the take lacks it."""
        sha = self._files.get((take, mic_id))
        return _open(sha) if sha else None

    def length(self, take: str) -> int:
        """Return the length of a take in samples."""
        return self._lengths.get(take, 0)


def find(session: Session, plan: Plan, take_key: str, on_progress=lambda share: None) -> None:
    """Find and store the hits of a take; what was stored before is replaced as a whole."""
    recordings = SessionRecordings(session)
    mics = [mic for mic in plan.mics if recordings.mic(take_key, mic.id) is not None]
    channels = []
    for mic in mics:
        close = is_close(mic.role) and mic.piece != "kit"
        first = close and timing_mic(mics, mic.piece) is mic
        channels.append(Channel(mic.piece if close else "kit", close, first))
    found = {}
    if any(c.first for c in channels):
        readers = [recordings.mic(take_key, mic.id) for mic in mics]
        found = find_hits(readers, channels, session.sample_rate_hz, HitSettings(), on_progress)
    take = Take.objects.get(session=session, key=take_key)
    with transaction.atomic():
        take.hits.all().delete()
        FoundHit.objects.bulk_create(
            FoundHit(take=take, piece=piece, time_s=h.time_s, level_db=h.level_db, excess_db=h.excess_db)
            for piece, hits in found.items()
            for h in hits
        )
        Take.objects.filter(pk=take.pk).update(hits_found=True)


def hits_of(session: Session, plan: Plan, take_key: str | None = None) -> dict[str, list[Hit]]:
    """Return the hits of a take by piece, found first where they were not yet, with the Plan's corrections."""
    key = take_key or plan.take
    take = Take.objects.get(session=session, key=key)
    if not take.hits_found:
        find(session, plan, key)
    rows: dict[str, list[tuple[float, float]]] = {}
    for piece, time_s, level_db in take.hits.values_list("piece", "time_s", "level_db"):
        rows.setdefault(piece, []).append((time_s, level_db))
    return resolve(rows, plan.hit_changes if key == plan.take else ())
