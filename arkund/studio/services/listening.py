"""What the listening bar plays: loops of the kit or a drum, before and after at equal loudness."""

import threading
import uuid
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from arkund.core.card.raw import raw_plan
from arkund.core.dsp.loudness import quick_loudness_lufs
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.kit.pieces import PIECES
from arkund.core.plan.plan import Plan
from arkund.core.render.loop import FADE_MS, MOST_MATCH_DB, Loop, as_chunk, finish, in_front, match_db, with_backing
from arkund.core.render.render import key_listen
from arkund.core.render.source import Recordings, backing_span
from arkund.core.replace.layers import without_layers
from arkund.core.rig import places
from arkund.core.rig.hearing import ALL, Listening
from arkund.core.rig.scenes import Scene
from arkund.core.rig.strips import Kit, Strip
from arkund.core.tools.tool import KINDS
from arkund.studio.models import Session
from arkund.studio.services import reverting
from arkund.studio.services.recordings import recordings_of
from arkund.studio.services.rendering import SETTLING_S, bytes_under_way, listened, turns
from arkund.studio.steps import STEPS

LONGEST_S = 60.0
MOST_REMEMBERED = 64
MOST_ASKERS = 200
OF_A_MOVE = "move:"
NEVER_MATCHED = ("key:", "change")
WITH_BACKING = ("kit", "in:")  # what is listened to within the music

_loudness_before: dict[
    tuple, float
] = {}  # LUFS by session, Plan without the step, span and output: the same while a setting of the step moves
_latest: dict[str, int] = {}
_lock = threading.Lock()


@dataclass(frozen=True, slots=True)
class Asker:
    """Which page of which user asks, for which time: its older questions stop. One that gives no name is never overtaken."""

    user: int | None
    client: str
    number: int

    @property
    def key(self) -> str:
        """A page's name, which no other user's page has."""
        return f"{self.user}:{self.client}"

    def begin(self) -> None:
        """Say that this is asked for now."""
        if not self.client:
            return
        with _lock:
            _latest[self.key] = max(_latest.pop(self.key, 0), self.number)
            while len(_latest) > MOST_ASKERS:
                _latest.pop(next(iter(_latest)))

    def overtaken(self) -> bool:
        """Say whether the page has asked for something newer meanwhile."""
        return bool(self.client) and _latest.get(self.key, 0) > self.number


NOBODY = Asker(None, "", 0)


@dataclass(frozen=True, slots=True)
class Question:
    """What a page wants to hear.

    what : ``kit``, ``in:PIECE`` (others dimmed), ``drum:PIECE``, ``alone:MIC``, ``key:STRIP/TOOL`` or ``change`` (after minus before);
    version : ``after``, or ``before`` = without this step, or without one Move where the step is ``move:NUMBER``; chunk : a chunk of the song, not a loop;
    part : of the loop, what is under the ear and wanted first; matched_db : by how much the last loop was raised, because a part's own loudness says little;
    listening : what is soloed and muted.
    """

    span: tuple[int, int]
    what: str = "kit"
    version: str = "after"
    step: str = ""
    chunk: bool = False
    part: tuple[int, int] | None = None
    matched_db: float = 0.0
    listening: Listening = ALL

    @property
    def heard(self) -> tuple[int, int]:
        """What is rendered of the span."""
        return self.part or self.span

    def check(self, sample_rate_hz: int) -> None:
        """Raise SettingsError where it makes no sense."""
        start, stop = self.span
        if not 0 <= start < stop or stop - start > LONGEST_S * sample_rate_hz:
            raise SettingsError(f"span: expected a start before its end and at most {LONGEST_S:.0f} s.")
        if self.part and not start <= self.part[0] < self.part[1] <= stop:
            raise SettingsError("part: expected a start before its end, both within the span.")
        if self.version not in ("after", "before"):
            raise SettingsError(f"version: expected before or after, got {self.version!r}.")
        if not abs(self.matched_db) <= MOST_MATCH_DB:
            raise SettingsError(f"matched_db: expected at most {MOST_MATCH_DB:.0f} dB up or down.")


def audition(session: Session, plan: Plan, question: Question, asker: Asker = NOBODY) -> Loop:
    """Render what was asked for, in the asker's turn. A loop after the step is brought to the loudness of the one before it; only a loop's ends are faded.

    Raises CancelledError where the asker wants something newer meanwhile, BusyError where too many wait.
    """
    question.check(session.sample_rate_hz)
    start, stop = question.span
    wanted = bytes_under_way(plan, stop - start + SETTLING_S * session.sample_rate_hz)
    with turns().turn(asker.key if asker.client else uuid.uuid4().hex, wanted, asker.overtaken):
        made = _audition(session, plan, question, asker.overtaken)
    if asker.overtaken():
        raise CancelledError("Overtaken by a newer change.")
    return made


def _audition(session: Session, plan: Plan, question: Question, cancelled: Callable[[], bool]) -> Loop:
    q, rate = question, session.sample_rate_hz
    recordings, plain = recordings_of(session), _plain(session, plan, q.step)
    audio = _audio(plan, plain, recordings, q, cancelled)
    loudness, matched_db = quick_loudness_lufs(audio, rate), 0.0
    if q.version == "after" and plain != plan and not q.chunk and not q.what.startswith(NEVER_MATCHED):
        matched_db = q.matched_db
        if not q.part:
            matched_db = match_db(_loudness_of(session, plain, recordings, q, cancelled), loudness)
    if plan.backing.on and q.what.startswith(WITH_BACKING):
        music = backing_span(plan, recordings, *q.heard)
        audio = with_backing(audio, music, plan.backing.level_db, matched_db)
    if q.chunk:
        return as_chunk(audio, rate, loudness)
    return finish(audio, rate, matched_db, loudness, 0.0 if q.part else FADE_MS)


def _plain(session: Session, plan: Plan, step: str) -> Plan:
    """Return the Plan that ``before`` plays: without a step, or without what one Move set (``move:NUMBER``)."""
    if step.startswith(OF_A_MOVE):
        return reverting.without(session, plan, int(number) if (number := step[len(OF_A_MOVE) :]).isdecimal() else 0)
    return without(plan, step)


def _audio(plan: Plan, plain: Plan, recordings: Recordings, q: Question, cancelled: Callable[[], bool]) -> np.ndarray:
    if q.what.startswith("key:"):
        strip, _, tool_id = q.what[4:].rpartition("/")
        return key_listen(plan, recordings, strip, tool_id, q.heard)
    if q.what == "change":
        kit = replace(q, what="kit")
        return _rendered(plan, recordings, kit, cancelled) - _rendered(plain, recordings, kit, cancelled)
    return _rendered(plain if q.version == "before" else plan, recordings, q, cancelled)


def _loudness_of(session: Session, plan: Plan, recordings: Recordings, q: Question, cancelled) -> float:
    """Return the loudness of what is asked for with another Plan, in LUFS, remembered."""
    key = (session.pk, plan, q.span, q.what, q.listening)
    if key not in _loudness_before:
        audio = _rendered(plan, recordings, q, cancelled)
        _loudness_before[key] = quick_loudness_lufs(audio, session.sample_rate_hz)
        while len(_loudness_before) > MOST_REMEMBERED:
            _loudness_before.pop(next(iter(_loudness_before)), None)
    return _loudness_before[key]


def _rendered(plan: Plan, recordings: Recordings, q: Question, cancelled: Callable[[], bool]) -> np.ndarray:
    kind, _, name = q.what.partition(":")
    if kind == "in":
        if name not in PIECES:
            raise SettingsError(f"what: unknown piece {name!r}.")
        return listened(in_front(plan, name), recordings, q.heard, "kit", cancelled, q.span, q.listening)
    return listened(plan, recordings, q.heard, q.what, cancelled, q.span, q.listening)


def without(plan: Plan, step: str) -> Plan:
    """Return the Plan with one step undone: what ``before`` plays. Unknown steps leave it as it is."""
    if step == "kit":
        return raw_plan(plan)
    if step == "timing":
        return plan.replace(cuts=(), lone_cuts=())
    if step == "takes":
        return plan.replace(joins=())
    if step == "replace":
        return without_layers(plan.replace(placements=()))
    if step == "blend":
        muted = tuple(path.replace(mute=True) for path in plan.paths)
        return plan.replace(paths=muted, kit=_bypassed(plan.kit, KINDS), scenes=())
    if step not in STEPS:
        return plan
    kinds, fields = STEPS[step].tools, STEPS[step].mic_fields
    if kinds:
        mics, groups = (tuple(_bypassed(s, kinds) for s in row) for row in (plan.mics, plan.groups))
        off = tuple(
            f"{each.place}.tools.{tool.id}."
            for each in places.all_of(plan)
            if each.sort in ("mic", "group")
            for tool in each.strip.tools
            if tool.kind in kinds
        )
        return plan.replace(mics=mics, groups=groups, scenes=_letting_go(plan, lambda place: place.startswith(off)))
    if not fields:
        return plan
    mics = []
    for mic in plan.mics:
        fresh = type(mic)(id=mic.id, name=mic.name)
        mics.append(mic.replace(**{name: getattr(fresh, name) for name in fields}))
    scenes = _letting_go(plan, lambda place: place.endswith(tuple(f".{name}" for name in fields)))
    return plan.replace(mics=tuple(mics), scenes=scenes)


def _letting_go(plan: Plan, gone: Callable[[str], bool]) -> tuple[Scene, ...]:
    """Return a Plan's scenes without what they hold of some settings."""
    return tuple(s.replace(held=tuple(held for held in s.held if not gone(held.place))) for s in plan.scenes)


def _bypassed(strip: Strip | Kit, kinds: tuple[str, ...]) -> Strip | Kit:
    """Return a strip with its tools of some kinds off."""
    tools = tuple(tool.replace(on=False) if tool.kind in kinds else tool for tool in strip.tools)
    return strip if tools == strip.tools else strip.replace(tools=tools)
