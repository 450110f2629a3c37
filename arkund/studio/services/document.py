"""A session as plain data: what an archive holds beside the audio, and what lies on a card beside the recordings. docs/formats.md describes it.

One schema for all of it: whatever comes from outside becomes a :class:`Document`, checked as a whole, before anything of it is used.
"""

from collections.abc import Mapping
from dataclasses import dataclass, fields
from typing import Any

from django.db import transaction

from arkund.core.errors import SettingsError
from arkund.core.files import audio
from arkund.core.kit.pieces import PIECES
from arkund.core.plan import change, difference, fits, scenes
from arkund.core.plan.plan import SCHEMA, SHELF, Plan
from arkund.core.plan.versions import upgrade
from arkund.core.settings import Settings, choice, go_on, number, text
from arkund.studio.models import Decision, MicRecording, Move, Session, Take
from arkund.studio.services import recordings

FORMAT = 3  # 1: Plans of schema 1; 2: Moves with whole lists, decisions without their Move
FORMATS = range(1, FORMAT + 1)
MOST_COUNT = 1 << 31
MOST_WARNINGS = 2000
MOST_NAME = 120
DIGEST = r"[0-9a-f]{64}"


@dataclass(frozen=True, slots=True, kw_only=True)
class MicRow(Settings):
    """One recording: which mic of its take, and the hash of its samples."""

    mic: str = text(longest=60)
    file: str = text(longest=255)
    digest: str = text(longest=64, pattern=DIGEST)
    length: int = number(0, 0, MOST_COUNT * 16, step=1, unit="samples")
    peak_db: float = number(0.0, -1000.0, 1000.0, unit="dB")
    clipped: int = number(0, 0, MOST_COUNT, step=1)
    confidence: float = number(0.0, 0.0, 1.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class TakeRow(Settings):
    """One pass of the kit, the backing track, or the files of the shelf."""

    key: str = text(longest=40)
    name: str = text(longest=120)
    length: int = number(0, 0, MOST_COUNT * 16, step=1, unit="samples")
    kind: str = choice(Take.DRUMS, (Take.DRUMS, Take.BACKING, Take.SHELF))
    mics: tuple[MicRow, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class MoveRow(Settings):
    """One line of the logbook."""

    made_on: int = number(0, 0, MOST_COUNT, step=1)
    schema: int = number(SCHEMA, 1, SCHEMA, step=1)
    reverts: int | None = number(None, 1, MOST_COUNT, step=1)  # the Move that it takes back
    number: int = number(1, 1, MOST_COUNT, step=1)  # last of the numbers: the field takes the function's name
    step: str = text(longest=20)
    title: str = text(longest=200)
    reason: str = text(longest=500)
    measured: str = text(longest=600)
    before: dict[str, Any]
    after: dict[str, Any]
    state: str = choice(Move.DONE, (Move.DONE, Move.UNDONE, Move.DROPPED))
    unattended: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class DecisionRow(Settings):
    """What was decided about a finding."""

    key: str = text(longest=80)
    verdict: str = choice(Decision.DONE, (Decision.DONE, Decision.LEFT))
    reason: str = text(longest=500)
    title: str = text(longest=200)
    evidence: str = text("", longest=600)
    step: str = text(longest=20)
    move: int | None = number(None, 1, MOST_COUNT, step=1)  # by which it was done


HitRow = tuple[float, float, float]  # time_s, level_db, sureness


@dataclass(frozen=True, slots=True, kw_only=True)
class Document(Settings):
    """A whole session but for its audio."""

    arkund_archive: int = number(FORMAT, FORMATS[0], FORMAT, step=1)
    name: str = text(longest=MOST_NAME)
    sample_rate_hz: int = number(48_000, min(audio.RATES_HZ), max(audio.RATES_HZ), step=1, unit="Hz")
    plan: Plan
    version: int = number(0, 0, MOST_COUNT, step=1)
    warnings: tuple[str, ...] = ()
    takes: tuple[TakeRow, ...]
    moves: tuple[MoveRow, ...] = ()
    decisions: tuple[DecisionRow, ...] = ()
    hits: dict[str, dict[str, tuple[HitRow, ...]] | None]

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if self.sample_rate_hz not in audio.RATES_HZ:
            raise SettingsError(f"sample_rate_hz: {self.sample_rate_hz} Hz is not one of 44.1 to 192 kHz.")
        if len(self.warnings) > MOST_WARNINGS:
            raise SettingsError(f"warnings: more than {MOST_WARNINGS}.")
        _once("takes", [take.key for take in self.takes])
        for take in self.takes:
            _once(f"takes.{take.key}.mics", [mic.mic for mic in take.mics])
            if (take.kind == Take.SHELF) != (take.key == SHELF):
                raise SettingsError(f"takes.{take.key}: only the shelf is called so.")
            if not take.mics:
                raise SettingsError(f"takes.{take.key}: has no recording.")
        scenes.check(self.plan)
        fits.check(self.plan, {t.key: {m.mic for m in t.mics} for t in self.takes if t.kind != Take.BACKING})
        for key, pieces in self.hits.items():
            if key not in {take.key for take in self.takes} or set(pieces or ()) - set(PIECES):
                raise SettingsError(f"hits: {key!r} is no take, or a piece is not known.")
        _once("decisions", [decision.key for decision in self.decisions])
        if {each.move for each in self.decisions} - {None} - {move.number for move in self.moves}:
            raise SettingsError("decisions: one was done by a Move that is not there.")
        _check_moves(self.plan, self.moves, self.version)

    @classmethod
    def from_json(cls, data: Any, where: str = "") -> "Document":
        """Build a document from plain data of any format; a former Plan is read as one of today, and the logbook with it stands closed."""
        if isinstance(data, dict):
            rate = data.get("sample_rate_hz") if data.get("sample_rate_hz") in audio.RATES_HZ else 48_000
            moves = _list(data.get("moves", []))
            if data.get("arkund_archive") == 1:
                moves = [move | {"schema": 1} if isinstance(move, dict) else move for move in moves]
            if data.get("arkund_archive") in (1, 2):
                decisions = [_with_move(each, moves) for each in _list(data.get("decisions", []))]
                data = data | {"moves": moves, "decisions": decisions, "arkund_archive": FORMAT}
            data = data | {"plan": upgrade(data.get("plan"), rate)}
        return super(Document, cls).from_json(data, where)

    @property
    def digests(self) -> list[str]:
        """The hashes of all its recordings."""
        return sorted({mic.digest for take in self.takes for mic in take.mics})

    def with_lengths(self, lengths: Mapping[str, int]) -> "Document":
        """Return the document with the lengths that its recordings really have, by hash."""
        takes = [
            take.replace(mics=tuple(mic.replace(length=lengths[mic.digest]) for mic in take.mics))
            for take in self.takes
        ]
        return self.replace(takes=tuple(t.replace(length=max(mic.length for mic in t.mics)) for t in takes))


def _with_move(decision: Any, moves: list) -> Any:
    """Return a decision of a former format with the Move by which it was done: the last one of its title."""
    if not isinstance(decision, dict) or decision.get("verdict") != Decision.DONE:
        return decision
    mine = [m.get("number") for m in moves if isinstance(m, dict) and m.get("title") == decision.get("title")]
    return decision | {"move": mine[-1] if mine else None}


def _list(value: Any) -> list:
    return value if isinstance(value, list) else []


def _once(where: str, keys: list) -> None:
    if len(set(keys)) != len(keys):
        twice = next(key for key in keys if keys.count(key) > 1)
        raise SettingsError(f"{where}: {str(twice)[:80]!r} stands there twice.")


def _check_moves(plan: Plan, moves: tuple[MoveRow, ...], version: int) -> None:
    """Walk the logbook back and forth: what can be undone and done again must be possible."""
    if [move.number for move in moves] != list(range(1, len(moves) + 1)):
        raise SettingsError("moves: are not numbered one by one.")
    if any(move.made_on >= version for move in moves):
        raise SettingsError("moves: one is newer than the plan.")
    if any(move.reverts is not None and move.reverts >= move.number for move in moves):
        raise SettingsError("moves: one takes back a later one.")
    back = plan
    for move in reversed([move for move in moves if move.state == Move.DONE]):
        if move.schema != SCHEMA:
            break  # closed, and all before it
        back = _put(back, move.number, move.before)
    for move in (move for move in moves if move.state == Move.UNDONE):
        if move.schema != SCHEMA:
            break
        plan = _put(plan, move.number, move.after)


def _put(plan: Plan, move_number: int, changes: dict[str, Any]) -> Plan:
    go_on()
    try:
        return change.put(plan, difference.unpacked(plan, changes))
    except SettingsError as error:
        raise SettingsError(f"moves: Move {move_number} cannot be taken back or done again ({error})") from error


def _row(cls: type[Settings], record, **more: Any) -> dict[str, Any]:
    """Return what a document says of a row of the database; texts no longer than it allows."""
    out = {}
    for each in fields(cls):
        if each.name in more or each.name == "mics":
            continue
        value, longest = getattr(record, each.name), each.metadata.get("longest")
        out[each.name] = value[:longest] if longest and isinstance(value, str) else value
    return out | more


def describe(session: Session) -> dict[str, Any]:
    """Return a session as plain data of the form of :class:`Document`, all of it as it stands at one moment."""
    with transaction.atomic():
        return _described(Session.objects.get(pk=session.pk))


def _described(session: Session) -> dict[str, Any]:
    plan, takes = session.plan, []
    numbers = dict(session.moves.values_list("pk", "number"))
    for take in Take.everything.filter(session=session).prefetch_related("mics"):
        takes.append(_row(TakeRow, take, mics=[_row(MicRow, mic) for mic in take.mics.all()]))
    return {
        "arkund_archive": FORMAT,
        "name": session.name[:MOST_NAME],
        "sample_rate_hz": session.sample_rate_hz,
        "plan": plan.to_json(),
        "version": session.version,
        "warnings": session.warnings[:MOST_WARNINGS],
        "takes": takes,
        "moves": [_row(MoveRow, move) for move in session.moves.all()],
        "decisions": [_row(DecisionRow, each, move=numbers.get(each.move_id)) for each in session.decisions.all()],
        "hits": {t["key"]: recordings.found(session, plan, t["key"]) for t in takes if t["kind"] == Take.DRUMS},
    }


def create(document: Document, name: str | None = None, uid: str | None = None) -> Session:
    """Make a new session of a document whose recordings lie in the data folder."""
    with transaction.atomic():
        session = Session.objects.create(
            name=(name or document.name)[:120],
            sample_rate_hz=document.sample_rate_hz,
            plan_json=document.plan.to_json(),
            version=document.version,
            warnings=list(document.warnings),
            ready=True,
            **({"uid": uid} if uid else {}),
        )
        for row in document.takes:
            take = Take.everything.create(session=session, **_row(TakeRow, row))
            MicRecording.objects.bulk_create(MicRecording(take=take, **mic.to_json()) for mic in row.mics)
        versions = {"last_version": document.version}
        Move.objects.bulk_create(Move(session=session, **versions, **move.to_json()) for move in document.moves)
        by_number = {move.number: move for move in session.moves.all()}
        Decision.objects.bulk_create(
            Decision(session=session, **(each.to_json() | {"move": by_number.get(each.move)}))
            for each in document.decisions
        )
        for take, rows in document.hits.items():
            if rows is not None:
                kept = {piece: [list(hit) for hit in mine] for piece, mine in rows.items()}
                recordings.keep(session, session.plan, take, kept)
    return session
