"""Single Moves taken back, whatever came after them; and so which Moves stand, and what was set by hand."""

from django.db import transaction

from arkund.core.errors import SettingsError, UnchangedError
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.plan.revert import SetSinceError, reverted, set_paths
from arkund.studio.models import Move, Session
from arkund.studio.services import moves

UNDONE = "Undone: "


def revert(session_id: int, number: int) -> Move:
    """Take back one Move, whatever came after it, as a Move of its own; of one that takes back another: do that again.

    Raises SettingsError where it does not stand, or what it set was set otherwise since: that comes first then. Nothing is changed.
    """
    with transaction.atomic():
        session = Session.objects.get(pk=session_id)
        move = session.moves.filter(number=number, state=Move.DONE).first()
        if move is None or number in reverted_numbers(session):
            raise SettingsError(f"Move {number} does not stand: it was undone already. Nothing was changed.")
        moves.check_open(move)
        try:
            values = reverted(session.plan, move.before, move.after)
        except SetSinceError as error:
            raise SettingsError(_built_upon(session, move, error.path)) from error
        if not values:
            raise UnchangedError(f"{move.title}: nothing of it is left to undo.")
        again = move.reverts is not None
        title = move.title.removeprefix(UNDONE) if again else f"{UNDONE}{move.title}"
        told = f"Move {number} taken back by itself; what came after it stays."
        given = {"step": move.step, "title": title, "measured": told, "version": session.version}
        return moves.apply(session_id, values, reverts=number, **given)


def reverted_numbers(session: Session) -> set[int]:
    """Return the numbers of the Moves that were taken back by a later one that stands."""
    out: set[int] = set()
    rows = session.moves.filter(state=Move.DONE, reverts__isnull=False).order_by("-number")
    for number, reverts in rows.values_list("number", "reverts"):
        if number not in out:
            out.add(reverts)
    return out


def standing(session: Session) -> list[Move]:
    """Return the Moves that stand, in the order in which they were made: done, and neither undone nor taken back."""
    gone = reverted_numbers(session)
    return [move for move in session.moves.filter(state=Move.DONE).order_by("number") if move.number not in gone]


def made_by_hand(session: Session) -> list[Move]:
    """Return the standing Moves that somebody made, and that no note and no job proposed."""
    decided = set(session.decisions.filter(move__isnull=False).values_list("move__number", flat=True))
    return [move for move in standing(session) if not move.unattended and move.number not in decided]


def set_by_hand(session: Session) -> set[str]:
    """Return the settings of the mix that somebody has set, as paths down to single ones: no job moves them.

    What was applied as it was proposed is a proposal still; names, hits and templates are no settings of the mix.
    """
    return {
        leaf
        for move in made_by_hand(session)
        if move.step != "load"
        for path, value in move.after.items()
        for leaf in set_paths(move.before.get(path), value, path)
    }


def _built_upon(session: Session, move: Move, path: str) -> str:
    """Return which later Move set again what a Move set at a path."""
    later = session.moves.filter(state=Move.DONE, number__gt=move.number).order_by("-number")
    other = next((each for each in later if any(moves.overlap(path, mine) for mine in each.after)), None)
    by = f" by Move {other.number}, “{other.title}”: undo that first" if other else ""
    return f"“{move.title}” cannot be undone by itself: what it set was set again{by}. Nothing was changed."


def without(session: Session, plan: Plan, number: int) -> Plan:
    """Return a Plan without what a Move set, as far as that was not set again since. Raises SettingsError where there is no such Move."""
    move = session.moves.filter(number=number).first()
    if move is None:
        raise SettingsError(f"step: there is no Move {number}.")
    return without_move(plan, move)


def without_move(plan: Plan, move: Move) -> Plan:
    """Return a Plan without what a Move set, as far as that was not set again since."""
    values: dict = {}
    for path, after in move.after.items():
        try:
            values |= reverted(plan, {path: move.before.get(path)}, {path: after})
        except (SetSinceError, SettingsError):
            continue  # what came later goes on from it
    return change.put(plan, values) if values else plan
