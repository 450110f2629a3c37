"""Accept findings: one by one from the page, or every first choice in the order of the work."""

from collections.abc import Callable

from arkund.core.card.targets import LOOKS
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.findings import Finding
from arkund.core.level.propose import to_middle
from arkund.core.load.propose import NEAR_THING
from arkund.core.render.whole import AWAITED
from arkund.core.timing.bars import meter_of
from arkund.studio.models import Decision, Move, Session
from arkund.studio.services import carding, moves, settling, whole
from arkund.studio.services.findings import find, find_part, parts
from arkund.studio.services.measuring import Measure
from arkund.studio.steps import KIT

ABOUT_NAMES = ("load:swap:", "load:name:")
ORDER = ("level", "lineup", "clean", "tone", "punch", "blend", KIT, "print")


def propose_all(
    session_id: int,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Move]:
    """Accept every open first-choice finding; timing and replacing stay to be decided. Each is a Move."""
    made: list[Move] = []
    for number, step in enumerate(ORDER):
        on_progress(number / len(ORDER), step)
        if cancelled():
            raise CancelledError("Stopped; what was done so far stands in the logbook and can be undone.")
        if step == KIT:
            if not made and _settled(session_id):
                continue
            made += settling.settle(Session.objects.get(pk=session_id), _within(on_progress, number), cancelled)
            continue
        if step == "clean":
            made += _look(session_id)
        if step == "print":  # what the whole song reaches is known only once it was rendered
            told = _within(on_progress, number, "the whole song")
            whole.measure(Session.objects.get(pk=session_id), told, cancelled, AWAITED)
        made += _first_choices(session_id, step)
        if step == "level":
            made += _to_middle(session_id)
    on_progress(1.0, "the verse")
    carding.calm(Measure(Session.objects.get(pk=session_id)))
    on_progress(1.0, "done")
    return made


def _first_choices(session_id: int, step: str) -> list[Move]:
    """Accept what a step proposes first, part by part: each is measured on what was done of the one before it."""
    made = []
    for part in range(parts(step)):
        session = Session.objects.get(pk=session_id)
        decided = set(session.decisions.values_list("key", flat=True))
        found = [f for f in find_part(step, part, Measure(session)) if f.first_choice and f.changes]
        made += [accept(session_id, each, "first choice") for each in found if each.key not in decided]
    return made


def _to_middle(session_id: int) -> list[Move]:
    """Bring the mics that lie within their windows to the middles of them, but for those that were left as they are."""
    session = Session.objects.get(pk=session_id)
    left = set(session.decisions.filter(verdict=Decision.LEFT).values_list("key", flat=True))
    set_before = {path for move in session.moves.filter(state=Move.DONE) for path in move.after}
    found = to_middle(session.plan, Measure(session).levels(), session.plan.window)
    mics = [mic for mic in found if f"level:trim:{mic}" not in left and f"mics.{mic}.trim_db" not in set_before]
    if not mics:
        return []
    title = f"Trimmed to the middle of their windows: {', '.join(session.plan.mic(mic).name for mic in mics)}"
    measured = "They lay within; at the middle, what follows does not hang on how they were recorded."
    changes = {f"mics.{mic}.trim_db": found[mic] for mic in mics}
    return [moves.apply(session_id, changes, step="level", title=title[:200], measured=measured)]


def _look(session_id: int) -> list[Move]:
    """Take the look of a kit's school, where nobody has chosen one."""
    session = Session.objects.get(pk=session_id)
    wanted = LOOKS.get(session.plan.school, session.plan.cleaning.look)
    chosen = any("cleaning.look" in move.after for move in session.moves.filter(state=Move.DONE))
    if chosen or wanted == session.plan.cleaning.look:
        return []
    title, measured = f"Cleaned: {wanted}", f"What a kit that is meant to be {session.plan.school} wants."
    return [moves.apply(session_id, {"cleaning.look": wanted}, step="clean", title=title, measured=measured)]


def _settled(session_id: int) -> bool:
    """Say whether nothing was changed since the kit was brought to its targets."""
    last = Move.objects.filter(session=session_id, state=Move.DONE).order_by("-number").first()
    return last is not None and last.step in (KIT, "print")


def _within(on_progress: Callable[[float, str], None], number: int, name: str = "") -> Callable[[float, str], None]:
    """Return what tells the progress of one step within all of them, under a name of its own where one is given."""
    return lambda share, text: on_progress((number + share) / len(ORDER), name or text)


def questions(session: Session) -> list[Finding]:
    """Return the open notes on which mic is which: what is proposed on top of a wrong name is wrong."""
    decided = set(session.decisions.values_list("key", flat=True))
    found = [f for f in find("load", Measure(session)) if f.key.startswith(ABOUT_NAMES) and f.key not in decided]
    return [f for f in found if not f.title.endswith(NEAR_THING)]


def accept(session_id: int, finding, reason: str = "", version: int | None = None) -> Move:
    """Do what a finding suggests, as a Move that carries its evidence."""
    if not finding.changes:
        raise SettingsError(f"{finding.title}: this note suggests no change; it can only be left with a reason.")
    move = moves.apply(
        session_id,
        finding.changes,
        step=finding.step,
        title=finding.title,
        reason=reason,
        measured=finding.evidence,
        version=version,
    )
    moves.decide(session_id, finding.key, Decision.DONE, title=finding.title, step=finding.step, reason=reason)
    return move


def leave(session_id: int, finding, reason: str) -> None:
    """Leave a finding as it is, and remember why."""
    moves.decide(session_id, finding.key, Decision.LEFT, title=finding.title, step=finding.step, reason=reason)


def estimate(session_id: int, meter: str = "", following: bool = False) -> tuple[dict, str] | None:
    """Return the tempo that explains the hits as Plan changes with words about its doubt, or None.

    meter : as it is written, "" as it is played; following : the map that follows the drummer where there is one
    """
    measure = Measure(Session.objects.get(pk=session_id))
    guess = measure.tempo_guess(meter_of(meter) if meter else None)
    if guess is None:
        return None
    told = measure.meter_guess()
    words = guess.words + (f" {told.words}" if told and not meter else "")
    return {"tempo": (guess.following if following else guess.tempo).to_json()}, words
