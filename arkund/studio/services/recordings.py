"""The recordings of a session as the core reads them, and the hits of its takes as they stand."""

import functools
import hashlib
import json

from arkund.core.files.audio import MicFile
from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import Hit, resolve
from arkund.core.hits.settings import Channel, HitSettings
from arkund.core.kit.pieces import is_close, timing_mic
from arkund.core.plan.plan import Plan
from arkund.studio.models import Measured, MicRecording, Session, Take
from arkund.studio.services import store

FINDER_VERSION = 3  # raised when hits are found in another way


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

    def content(self, take: str, mic_id: str) -> str:
        """Return the hash of a mic's samples, nothing where the take lacks it."""
        return self._files.get((take, mic_id), "")

    def length(self, take: str) -> int:
        """Return the length of a take in samples."""
        return self._lengths.get(take, 0)


def find(session: Session, plan: Plan, take_key: str, on_progress=lambda share: None) -> dict[str, list]:
    """Find a take's hits and keep them: by piece, rows of time_s, level_db and sureness."""
    recordings = SessionRecordings(session)
    mics = [mic for mic in plan.mics if recordings.mic(take_key, mic.id) is not None]
    channels = _channels(mics)
    found = {}
    if any(c.first for c in channels):
        readers = [recordings.mic(take_key, mic.id) for mic in mics]
        found = find_hits(readers, channels, session.sample_rate_hz, HitSettings(), on_progress)
    rows = {
        piece: [[round(h.time_s, 7), round(h.level_db, 3), round(h.sure, 3)] for h in mine]
        for piece, mine in found.items()
    }
    Measured.objects.get_or_create(pk=_hits_key(session, plan, take_key), defaults={"session": session, "data": rows})
    return rows


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
    rows = found(session, plan, key)
    if rows is None:
        rows = find(session, plan, key)
    return resolve(rows, plan.hit_changes if key == plan.take else ())


def _channels(mics) -> list[Channel]:
    out = []
    for mic in mics:
        close = is_close(mic.role) and mic.piece != "kit"
        out.append(Channel(mic.piece if close else "kit", close, close and timing_mic(mics, mic.piece) is mic))
    return out


def _hits_key(session: Session, plan: Plan, take_key: str) -> str:
    """Return the hash of all that a take's hits depend on: its audio, which mic is whose, and the way they are found."""
    audio = dict(MicRecording.objects.filter(take__session=session, take__key=take_key).values_list("mic", "sha256"))
    mics = [mic for mic in plan.mics if mic.id in audio]
    rows = [[audio[mic.id], c.piece, c.close, c.first] for mic, c in zip(mics, _channels(mics), strict=True)]
    content = json.dumps(["hits", FINDER_VERSION, session.pk, rows])
    return hashlib.sha256(content.encode()).hexdigest()
