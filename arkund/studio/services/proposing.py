"""Accept findings: one by one from the page, or every first choice in the order of the work."""

from collections.abc import Callable
from dataclasses import dataclass

from arkund.core.card.targets import LOOKS
from arkund.core.errors import SettingsError
from arkund.core.findings import Finding
from arkund.core.level.propose import to_middle
from arkund.core.render.whole import AWAITED
from arkund.core.timing.bars import meter_of
from arkund.studio.models import Decision, Move, Session
from arkund.studio.services import account, carding, kit_solver, moves, whole
from arkund.studio.services.findings import find, find_part, parts, standing_decisions
from arkund.studio.services.measuring import Measure
from arkund.studio.services.unattended import Unattended
from arkund.studio.steps import KIT

ABOUT_NAMES = ("load:swap:", "load:name:")
ORDER = ("level", "lineup", "clean", "tone", "blend", KIT, "print")


@dataclass(frozen=True, slots=True)
class Proposed:
    """The Moves of one click, and what was left alone because somebody had set it."""

    moves: list[Move]
    left: list[str]

    @property
    def words(self) -> str:
        """What was left alone, in a sentence; nothing where nothing was."""
        return f"Left as you set it: {'; '.join(self.left)}." if self.left else ""


def propose_all(
    session_id: int,
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Proposed:
    """Accept every open first-choice finding; timing and replacing stay to be decided. Each is a Move. What somebody sets meanwhile stays as they set it."""
    job = Unattended(session_id, cancelled)
    for number, step in enumerate(ORDER):
        on_progress(number / len(ORDER), step)
        job.session()  # where it is to stop, it stops between two steps
        if step == KIT:
            if job.made or not _settled(session_id):
                kit_solver.settle(job, _within(on_progress, number), cancelled)
            continue
        if step == "clean":
            _look(job)
        if step == "print":  # what the whole song reaches is known only once it was rendered
            told = _within(on_progress, number, "the whole song")
            whole.measure(job.session(), told, cancelled, AWAITED)
        _first_choices(job, step)
        if step == "level":
            _to_middle(job)
    on_progress(1.0, "the calmest part")
    carding.calm(Measure(Session.objects.get(pk=session_id)))
    on_progress(1.0, "what each deed does")
    session = Session.objects.get(pk=session_id)
    account.deeds(session, Measure(session))
    on_progress(1.0, "done")
    return Proposed(job.made, job.left)


def _first_choices(job: Unattended, step: str) -> None:
    """Accept what a step proposes first, part by part: each is measured on what was done of the one before it."""
    for part in range(parts(step)):
        session = job.session()
        found = find_part(step, part, Measure(session))
        decided = standing_decisions(session, [each.key for each in found])
        open_ones = [each for each in found if each.first_choice and each.changes and each.key not in decided]
        wanted = [mine for each in open_ones if (mine := job.but_by_hand(each, session.plan))]
        for each in _by_deed(wanted):
            job.accept(each, session.version, "first choice")


def _by_deed(findings: list[Finding]) -> list[list[Finding]]:
    """Return findings that are one deed together, in the order of the first of each."""
    deeds: dict[str, list[Finding]] = {}
    for each in findings:
        deeds.setdefault(each.kind or each.key, []).append(each)
    return list(deeds.values())


def _to_middle(job: Unattended) -> None:
    """Bring the mics that lie within their windows to the middles of them, but for those that were left as they are."""
    session = job.session()
    left = set(session.decisions.filter(verdict=Decision.LEFT).values_list("key", flat=True))
    rows = session.moves.filter(state=Move.DONE).values_list("after", flat=True)
    set_before = {path for after in rows for path in after}
    found = to_middle(session.plan, Measure(session).levels(), session.plan.window)
    theirs = job.theirs()
    changes = {
        path: trim_db
        for mic, trim_db in found.items()
        if f"level:trim:{mic}" not in left
        and (path := f"mics.{mic}.trim_db") not in set_before
        and job.is_free(path, theirs)
    }
    if not changes:
        return
    names = ", ".join(session.plan.mic(path.split(".")[1]).name for path in changes)
    title = f"Trimmed to the middle of their windows: {names}"
    measured = "They lay within; at the middle, what follows does not depend on how they were recorded."
    job.make(changes, version=session.version, step="level", title=title[:200], measured=measured)


def _look(job: Unattended) -> None:
    """Take the look of a kit's school, where nobody has chosen one."""
    session = job.session()
    wanted = LOOKS.get(session.plan.school, session.plan.cleaning.look)
    chosen = any("cleaning.look" in move.after for move in session.moves.filter(state=Move.DONE))
    if chosen or wanted == session.plan.cleaning.look:
        return
    title, measured = f"Cleaned: {wanted}", f"What the style {session.plan.school} wants."
    job.make({"cleaning.look": wanted}, version=session.version, step="clean", title=title, measured=measured)


def _settled(session_id: int) -> bool:
    """Say whether nothing was changed since the kit was brought to its targets."""
    last = Move.objects.filter(session=session_id, state=Move.DONE).order_by("-number").first()
    return last is not None and last.step in (KIT, "print")


def _within(on_progress: Callable[[float, str], None], number: int, name: str = "") -> Callable[[float, str], None]:
    """Return what tells the progress of one step within all of them, under a name of its own where one is given."""
    return lambda share, text: on_progress((number + share) / len(ORDER), name or text)


def questions(session: Session) -> list[Finding]:
    """Return the open notes on which mic is which: what is proposed on top of a wrong name is wrong."""
    found = [finding for finding in find("load", Measure(session)) if finding.key.startswith(ABOUT_NAMES)]
    decided = standing_decisions(session, [finding.key for finding in found])
    return [finding for finding in found if finding.key not in decided]


def accept(session_id: int, finding: Finding, reason: str, version: int) -> Move:
    """Do what a finding suggests that was measured on a version, as a Move that carries its evidence.

    Raises SettingsError where it suggests nothing, UnchangedError where it is done already.
    """
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
    moves.decide_done(session_id, finding, move, reason)
    return move


def leave(session_id: int, finding, reason: str) -> None:
    """Leave a finding as it is, and remember why."""
    moves.decide_left(session_id, finding, reason)


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
