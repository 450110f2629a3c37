"""Moves: the only way in which a Plan changes. Made on a version, undone and redone one by one."""

from typing import Any

from django.db import transaction

from arkund.core.errors import SettingsError, StaleError
from arkund.core.plan import change, fits, scenes
from arkund.core.plan.plan import Plan
from arkund.studio.models import Decision, MicRecording, Move, Session, Take


def apply(
    session_id: int,
    changes: dict[str, Any],
    *,
    step: str,
    title: str,
    reason: str = "",
    measured: str = "",
    version: int | None = None,
) -> Move:
    """Change the Plan at some paths as one Move.

    Where ``version`` is given it must be the current one, or StaleError says what changed meanwhile. Raises SettingsError for
    unknown paths or values out of range; nothing is changed then.
    """
    if not changes:
        raise SettingsError("changes: nothing to change was given.")
    with transaction.atomic():
        session = _current(session_id, version, changes)
        plan = session.plan
        changes, after_plan = _changed(plan, changes)
        before = {path: change.get(plan, path) for path in changes}
        checked(session, after_plan)
        after = {path: change.get(after_plan, path) for path in changes}
        session.moves.filter(state=Move.UNDONE).update(state=Move.DROPPED)
        move = Move.objects.create(
            session=session,
            number=_next_number(session),
            made_on=session.version,
            step=step[:20],
            title=title[:200],
            reason=reason[:500],
            measured=measured[:600],
            before=before,
            after=after,
        )
        _save(session, after_plan)
        return move


def _changed(plan: Plan, changes: dict[str, Any]) -> tuple[dict[str, Any], Plan]:
    """Return changes with what follows from them, and the Plan after them: a scene lets go of what is gone."""
    after = change.put(plan, changes)
    if not after.scenes or any(path.partition(".")[0] == "scenes" for path in changes):
        return changes, after
    kept = scenes.still_there(after)
    if kept == after.scenes:
        return changes, after
    return changes | {"scenes": [scene.to_json() for scene in kept]}, after.replace(scenes=kept)


def checked(session: Session, plan: Plan) -> Plan:
    """Return a changed Plan of a session. Raises SettingsError where it names a take or a mic that the session lacks, leaves out one that it has, or has
    scenes that cannot hold."""
    scenes.check(plan)
    if fits.names(plan) != fits.names(session.plan):
        rows = MicRecording.objects.filter(take__session=session).exclude(take__kind=Take.BACKING)
        takes: dict[str, set[str]] = {}
        for take, mic in rows.values_list("take__key", "mic"):
            takes.setdefault(take, set()).add(mic)
        fits.check(plan, takes)
    return plan


def undo(session_id: int) -> Move | None:
    """Take back the last Move that stands; None where there is none."""
    with transaction.atomic():
        session = _current(session_id, None, {})
        move = session.moves.filter(state=Move.DONE).order_by("-number").first()
        if move is None:
            return None
        _check_open(move)
        _save(session, checked(session, change.put(session.plan, change.of_today(move.before))))
        move.state = Move.UNDONE
        move.save(update_fields=["state"])
        return move


def redo(session_id: int) -> Move | None:
    """Do the last undone Move again; None where there is none."""
    with transaction.atomic():
        session = _current(session_id, None, {})
        move = session.moves.filter(state=Move.UNDONE).order_by("number").first()
        if move is None:
            return None
        _check_open(move)
        _save(session, checked(session, change.put(session.plan, change.of_today(move.after))))
        move.state = Move.DONE
        move.save(update_fields=["state"])
        return move


def next_undo(session: Session) -> Move | None:
    """Return the Move that would be taken back next."""
    move = session.moves.filter(state=Move.DONE).order_by("-number").first()
    return None if move is None or move.closed else move


def next_redo(session: Session) -> Move | None:
    """Return the Move that would be done again next."""
    move = session.moves.filter(state=Move.UNDONE).order_by("number").first()
    return None if move is None or move.closed else move


def _check_open(move: Move) -> None:
    if move.closed:
        raise SettingsError(
            f"Move {move.number}, “{move.title}”, was made before strips had rows of tools; it stays in the logbook and cannot be taken back or done again."
            " Change the setting itself instead."
        )


def decide(session_id: int, key: str, verdict: str, *, title: str, step: str, reason: str = "") -> None:
    """Remember what was decided about a finding."""
    Decision.objects.update_or_create(
        session_id=session_id,
        key=key[:80],
        defaults={"verdict": verdict, "reason": reason[:500], "title": title[:200], "step": step[:20]},
    )


def _current(session_id: int, version: int | None, changes: dict[str, Any]) -> Session:
    session = Session.objects.get(pk=session_id)
    if version is not None and version != session.version:
        touched = [
            f"{path} is now {value!r}, you wanted {changes[path]!r}"
            for move in session.moves.filter(made_on__gte=version, state=Move.DONE)
            for path, value in move.after.items()
            if path in changes
        ]
        what = "; ".join(touched[:4]) or "other settings were changed"
        raise StaleError(f"The plan was changed meanwhile ({what}). Nothing was changed; look and try again.")
    return session


def _next_number(session: Session) -> int:
    last = session.moves.order_by("-number").first()
    return last.number + 1 if last else 1


def _save(session: Session, plan: Plan) -> None:
    session.plan = plan
    session.version += 1
    session.save(update_fields=["plan_json", "version"])
