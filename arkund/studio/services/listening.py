"""What the listening bar plays: loops of the kit or a drum, before and after at equal loudness."""

import threading

import numpy as np

from arkund.core.dsp.loudness import quick_loudness_lufs
from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import PIECES
from arkund.core.plan.plan import Plan
from arkund.core.render.loop import Loop, as_chunk, finish, in_front, match_db, with_backing
from arkund.core.render.render import key_listen
from arkund.core.render.source import backing_span
from arkund.studio.models import Session
from arkund.studio.services.recordings import recordings_of
from arkund.studio.services.rendering import rendered

LONGEST_S = 60.0
STEP_FIELDS = {
    "level": ("trim_db", "repair", "steps"),
    "lineup": ("line_up", "clock_ppm"),
    "clean": ("gate",),
    "tone": ("tone",),
    "punch": ("shaper", "compressor"),
}

MOST_REMEMBERED = 64
WITH_BACKING = ("kit", "in:")  # what is listened to within the music

_loudness_before: dict[
    tuple, float
] = {}  # LUFS by session, Plan without the step, span and output: the same while a setting of the step moves
_latest: dict[str, int] = {}
_lock = threading.Lock()


def begin(client: str, number: int) -> None:
    """Say that a page asks for its number-th render: older ones of the same page stop."""
    with _lock:
        _latest[client] = max(_latest.get(client, 0), number)
        while len(_latest) > 200:
            _latest.pop(next(iter(_latest)))


def overtaken(client: str, number: int) -> bool:
    """Say whether the page has asked for something newer meanwhile."""
    return _latest.get(client, 0) > number


def audition(
    session: Session,
    plan: Plan,
    span: tuple[int, int],
    what: str,
    version: str,
    step: str,
    chunk: bool = False,
    cancelled=lambda: False,
) -> Loop:
    """Render a loop, or a chunk of the song, whose ends are not faded.

    what : ``kit``, ``in:PIECE`` (others dimmed), ``drum:PIECE``, ``alone:MIC``, ``key:MIC`` or ``change`` (after minus before);
    version : ``after``, or ``before`` = without this step. The after is brought to the loudness of the before.
    """
    rate = session.sample_rate_hz
    if not 0 <= span[0] < span[1] or span[1] - span[0] > LONGEST_S * rate:
        raise SettingsError(f"span: expected a start before its end and at most {LONGEST_S:.0f} s.")
    recordings = recordings_of(session)

    def made(audio: np.ndarray, matched_db: float = 0.0, loudness_lufs: float | None = None) -> Loop:
        loudness = quick_loudness_lufs(audio, rate) if loudness_lufs is None else loudness_lufs
        if plan.backing.on and what.startswith(WITH_BACKING):
            music = backing_span(plan, recordings, *span)
            audio = with_backing(audio, music, plan.backing.level_db, 0.0 if chunk else matched_db)
        return as_chunk(audio, rate, loudness) if chunk else finish(audio, rate, matched_db, loudness)

    if what.startswith("key:"):
        return made(key_listen(plan, recordings, what[4:], span))
    plain = without(plan, step)
    if what == "change":
        after = _rendered(plan, recordings, span, "kit", cancelled)
        before = _rendered(plain, recordings, span, "kit", cancelled)
        return made(after - before)
    if version == "before":
        return made(_rendered(plain, recordings, span, what, cancelled))
    audio = _rendered(plan, recordings, span, what, cancelled)
    if plain == plan or chunk:
        return made(audio)
    found = quick_loudness_lufs(audio, rate)
    key = (session.pk, plain, span, what)
    if key not in _loudness_before:
        before = _rendered(plain, recordings, span, what, cancelled)
        _loudness_before[key] = quick_loudness_lufs(before, rate)
        while len(_loudness_before) > MOST_REMEMBERED:
            _loudness_before.pop(next(iter(_loudness_before)), None)
    return made(audio, match_db(_loudness_before[key], found), found)


def _rendered(plan: Plan, recordings, span, what: str, cancelled) -> np.ndarray:
    kind, _, name = what.partition(":")
    if kind == "in":
        if name not in PIECES:
            raise SettingsError(f"what: unknown piece {name!r}.")
        return rendered(in_front(plan, name), recordings, span, "kit", cancelled)
    return rendered(plan, recordings, span, what, cancelled)


def without(plan: Plan, step: str) -> Plan:
    """Return the Plan with one step undone: what ``before`` plays. Unknown steps leave it as it is."""
    if step == "timing":
        return plan.replace(cuts=(), lone_cuts=())
    if step == "takes":
        return plan.replace(joins=())
    if step == "replace":
        return plan.replace(placements=(), layers=())
    if step == "blend":
        compressor = plan.bus.compressor.replace(on=False)
        bus = plan.bus.replace(compressor=compressor, limiter_on=False)
        return plan.replace(punch=plan.punch.replace(on=False), sustain=plan.sustain.replace(on=False), bus=bus)
    fields = STEP_FIELDS.get(step, ())
    if not fields:
        return plan
    mics = []
    for mic in plan.mics:
        fresh = type(mic)(id=mic.id, name=mic.name)
        mics.append(mic.replace(**{name: getattr(fresh, name) for name in fields}))
    return plan.replace(mics=tuple(mics))
