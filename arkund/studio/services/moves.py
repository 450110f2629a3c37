"""Moves: the only way in which a Plan changes. Made on a version, undone and redone one by one."""

from collections.abc import Collection, Iterable
from contextlib import suppress
from typing import Any

from django.db import transaction

from arkund.core.errors import SettingsError, StaleError, UnchangedError
from arkund.core.findings import Finding, with_minus
from arkund.core.plan import change, difference, fits, scenes
from arkund.core.plan.plan import Plan
from arkund.core.rig import note_releases
from arkund.studio.models import Decision, MicRecording, Move, Session, Take


def apply(
    session_id: int,
    changes: dict[str, Any],
    *,
    step: str,
    title: str,
    reason: str = "",
    measured: str = "",
    version: int,
    mine: Collection[int] = (),
    elsewhere: bool = False,
    unattended: bool = False,
    reverts: int | None = None,
) -> Move:
    """Change the Plan at some paths as one Move.

    version : of the Plan that the changes were worked out on. Where somebody has changed the same settings since, StaleError says which; what was changed
    elsewhere stays, and the Move is made on top of it. mine : numbers of Moves since then that the caller has made itself;
    elsewhere : what it tells of was done outside the Plan as well, so that the Plan may be as before;
    unattended : a job makes it by itself; reverts : the number of the Move that it takes back

    Raises SettingsError for unknown paths or values out of range, UnchangedError where all is so already; nothing is changed then.
    """
    if not changes:
        raise SettingsError("changes: nothing to change was given.")
    with transaction.atomic():
        session = Session.objects.get(pk=session_id)
        _check_fresh(session, version, changes, mine)
        plan = session.plan
        changes, after_plan = _changed(plan, changes)
        before = {path: change.get(plan, path) for path in changes}
        checked(session, after_plan)
        if after_plan == plan and not elsewhere:
            raise UnchangedError(f"{title[:200]}: it is so already; nothing was changed.")
        after = {path: change.get(after_plan, path) for path in changes}
        before, after = difference.packed(before, after)
        session.moves.filter(state=Move.UNDONE).update(state=Move.DROPPED)
        move = Move.objects.create(
            session=session,
            number=_next_number(session),
            made_on=session.version,
            last_version=session.version + 1,
            unattended=unattended,
            reverts=reverts,
            step=step[:20],
            title=with_minus(title)[:200],
            reason=reason[:500],
            measured=measured[:600],
            before=before,
            after=after,
        )
        _save(session, after_plan)
        return move


def read_at(session: Session, version: int | None) -> int:
    """Return the version that a change was worked out on: the one that a page names, or the session's as it was read where nobody names one."""
    return session.version if version is None else version


def touched_since(session: Session, version: int, mine: Collection[int] = ()) -> dict[str, Move]:
    """Return the paths that were changed, undone or done again since a version, each with the last Move that touched it; without Moves of some numbers."""
    since = session.moves.filter(last_version__gt=version).exclude(number__in=mine).order_by("last_version")
    return {path: move for move in since for path in move.after}


def overlap(path: str, other: str) -> bool:
    """Say whether two paths are of the same setting, or the one is part of the other."""
    return path == other or path.startswith(f"{other}.") or other.startswith(f"{path}.")


def _check_fresh(session: Session, version: int, changes: Iterable[str], mine: Collection[int]) -> None:
    """Raise StaleError where settings were changed since a version that are to be changed now."""
    if version == session.version:
        return
    if version > session.version:
        raise StaleError("The plan is not of this version; load the page again. Nothing was changed.")
    touched = touched_since(session, version, mine)
    both = {(path, other) for path in changes for other in touched if overlap(path, other)}
    if both:
        path, other = min(both)
        move, now = touched[other], _shown(session.plan, path)
        undone = ", undone" if move.state != Move.DONE else ""
        raise StaleError(
            f"{path} was changed meanwhile (Move {move.number}, “{move.title}”{undone}){now}. Nothing was changed; look and try again."
        )


def _shown(plan: Plan, path: str) -> str:
    """Return what a setting is now, in words, where that is short."""
    with suppress(SettingsError):
        now = change.get(plan, path)
        if not isinstance(now, (list, dict)):
            return f"; it is now {now!r}"
    return ""


def _changed(plan: Plan, changes: dict[str, Any]) -> tuple[dict[str, Any], Plan]:
    """Return changes with what follows from them, and the Plan after them: releases follow the tempo, a scene lets go of what is gone."""
    after = change.put(plan, changes)
    if more := note_releases.followed(plan, after):
        after = change.put(after, more)
        own = {path: change.get(after, path) for path in changes}
        changes = own | {k: v for k, v in more.items() if not any(overlap(k, path) for path in changes)}
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


def undo(session_id: int, number: int | None = None) -> Move | None:
    """Take back the last Move that stands; None where there is none.

    number : of the Move that is meant. Raises StaleError where another one is the last by now.
    """
    return _turn(session_id, number, Move.DONE, Move.UNDONE)


def redo(session_id: int, number: int | None = None) -> Move | None:
    """Do the last undone Move again; None where there is none. number : as in :func:`undo`"""
    return _turn(session_id, number, Move.UNDONE, Move.DONE)


def _turn(session_id: int, number: int | None, state: str, new_state: str) -> Move | None:
    """Take back or do again the next Move."""
    with transaction.atomic():
        session = Session.objects.get(pk=session_id)
        move = _next(session, state)
        if number is not None and (move is None or move.number != number):
            what = f"Move {move.number}, \u201c{move.title}\u201d" if move else "none"
            word = "undone" if state == Move.DONE else "done again"
            raise StaleError(
                f"Meanwhile the next Move to be {word} is {what}. Nothing was changed; look and try again."
            )
        if move is None:
            return None
        check_open(move)
        values = move.before if new_state == Move.UNDONE else move.after
        _save(session, checked(session, change.put(session.plan, difference.unpacked(session.plan, values))))
        move.state, move.last_version = new_state, session.version
        move.save(update_fields=["state", "last_version"])
        return move


def _next(session: Session, state: str) -> Move | None:
    """Return the Move of a state that is undone, or done again, next."""
    return session.moves.filter(state=state).order_by("-number" if state == Move.DONE else "number").first()


def next_undo(session: Session) -> Move | None:
    """Return the Move that would be taken back next."""
    move = _next(session, Move.DONE)
    return None if move is None or move.closed else move


def next_redo(session: Session) -> Move | None:
    """Return the Move that would be done again next."""
    move = _next(session, Move.UNDONE)
    return None if move is None or move.closed else move


def check_open(move: Move) -> None:
    """Raise SettingsError where a Move can be read alone."""
    if move.closed:
        raise SettingsError(
            f"Move {move.number}, “{move.title}”, stands in the logbook in words alone (it was made before strips had rows of tools, or was too long for"
            " an archive); it cannot be taken back or done again."
            " Change the setting itself instead."
        )


def decide_done(session_id: int, finding: Finding, move: Move, reason: str) -> None:
    """Remember that a finding was done by a Move: it is as long as the Move stands."""
    _decide(session_id, finding, Decision.DONE, reason, move)


def decide_left(session_id: int, finding: Finding, reason: str) -> None:
    """Remember that a finding was left as it is, and why."""
    _decide(session_id, finding, Decision.LEFT, reason, None)


def _decide(session_id: int, finding: Finding, verdict: str, reason: str, move: Move | None) -> None:
    texts = {
        "reason": reason[:500], "title": finding.title[:200], "evidence": finding.evidence[:600], "step": finding.step[:20],
    }  # fmt: skip
    Decision.objects.update_or_create(
        session_id=session_id, key=finding.key[:80], defaults=texts | {"verdict": verdict, "move": move}
    )


def _next_number(session: Session) -> int:
    last = session.moves.order_by("-number").first()
    return last.number + 1 if last else 1


def _save(session: Session, plan: Plan) -> None:
    session.plan = plan
    session.version += 1
    session.save(update_fields=["plan_json", "version"])
