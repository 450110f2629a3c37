"""A card beside the audio for each session: a text file that says what each recording is, so that sessions can be rebuilt without the database.

``audio/<uid>.card.jsonl`` is two lines of JSON: which session it is of and at which version, and what an archive says of it (``services/document.py``): takes,
mics and hashes, Plan and logbook as they stood when it was written: when the session was made, and then hourly where it changed.
"""

import json
import logging
import os
import tempfile
from dataclasses import dataclass
from pathlib import Path

from arkund.core.errors import AudioError, SettingsError
from arkund.core.settings import read_json
from arkund.studio.models import Session
from arkund.studio.services import quarantine, store

log = logging.getLogger(__name__)
LONGEST_LINE = 10_000  # bytes
ENDING = ".card.jsonl"


@dataclass(frozen=True, slots=True)
class Card:
    """What the first line of a card says."""

    path: Path
    uid: str
    name: str
    version: int


def path_of(uid: str) -> Path:
    """Return where a session's card lies."""
    return store.audio_folder() / f"{uid}{ENDING}"


def write(session: Session) -> Path:
    """Write a session's card as the session stands."""
    from arkund.studio.services import document  # what computes is fetched when it is needed: a start only reads cards

    path = path_of(session.uid)
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, new = tempfile.mkstemp(prefix=".new-", suffix=".json", dir=path.parent)
    try:
        with os.fdopen(handle, "w") as file:
            said = document.describe(session)
            json.dump({"name": said["name"], "version": said["version"]}, file)
            file.write("\n")
            json.dump(said, file)
            file.flush()
            os.fsync(file.fileno())
        Path(new).replace(path)
    finally:
        Path(new).unlink(missing_ok=True)
    return path


def keep(session: Session) -> None:
    """Write a session's card; a disk that refuses costs the card, not the session: it is written again within the hour, and at the next start."""
    try:
        write(session)
    except OSError:
        log.exception("the card of session %s could not be written", session.pk)


def read_all() -> list[Card]:
    """Return the cards that lie there; a damaged one has no name."""
    return [_read(path) for path in sorted(store.audio_folder().glob(f"*{ENDING}"))]


def _read(path: Path) -> Card:
    uid = path.name.removesuffix(ENDING)
    try:
        with path.open("rb") as file:
            said = json.loads(file.readline(LONGEST_LINE))
        return Card(path, uid, str(said["name"]), int(said["version"]))
    except (OSError, ValueError, KeyError, TypeError):
        return Card(path, uid, "", -1)


def contents(path: Path) -> dict:
    """Return the session that a card describes, as plain data. Raises OSError or ValueError for a damaged one."""
    with path.open("rb") as file:
        file.readline(LONGEST_LINE)
        return read_json(file.read())


def ahead() -> list[Card]:
    """Return the cards of sessions that the database does not know, or knows only as they once were: the database is older than the audio."""
    versions = dict(Session.objects.values_list("uid", "version"))
    return [card for card in read_all() if card.name and card.version > versions.get(card.uid, -1)]


def refresh() -> None:
    """Write the cards of sessions that changed since, or have none."""
    written = {card.uid: card.version for card in read_all()}
    for session in Session.objects.filter(ready=True):
        if written.get(session.uid, -1) < session.version:
            keep(session)


def rebuild(card: Card) -> Session:
    """Make a session of a card; its recordings must lie there. Raises AudioError saying what is wrong."""
    from arkund.core.files import audio
    from arkund.studio.services import document

    try:
        said = document.Document.from_json(contents(card.path))
    except (OSError, ValueError, RecursionError) as error:
        raise AudioError(f"{card.path.name}: does not describe a session ({str(error)[:300]}).") from error
    lengths = {}
    for digest in said.digests:
        path = store.audio_path(digest)
        try:
            found, lengths[digest] = audio.digest_of(path)
        except (AudioError, OSError, ValueError) as error:
            raise AudioError(f"{said.name}: recording {digest[:12]} is missing or cannot be read.") from error
        if found != digest:
            raise AudioError(f"{said.name}: recording {digest[:12]} does not hold what was imported.")
    if Session.objects.filter(uid=card.uid).exists():  # the database knows it as it once was: both are kept
        session = document.create(said.with_lengths(lengths), f"{said.name[:100]} (from its card)")
        quarantine.put_aside(card.path)
    else:
        session = document.create(said.with_lengths(lengths), uid=card.uid)
    keep(session)
    return session


def rebuild_all() -> tuple[list[Session], list[str]]:
    """Make a session of each card that the database does not know; return them, and what could not be made."""
    made, faults = [], []
    for card in ahead():
        try:
            made.append(rebuild(card))
        except (AudioError, SettingsError) as error:
            faults.append(str(error))
    return made, faults


def put_aside(session: Session) -> None:
    """Put a session's card aside as the session stands, before its rows are deleted."""
    keep(session)
    path = path_of(session.uid)
    if path.exists():
        quarantine.put_aside(path)
