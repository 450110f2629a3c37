"""What pages ask for: Moves, undo and redo, decisions on findings, and the step's own actions."""

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_POST

from arkund.core.errors import SettingsError, UnchangedError
from arkund.core.plan.plan import HitChange
from arkund.core.rig import changes
from arkund.studio.jobs import background, runner
from arkund.studio.models import Decision, Move, Session
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.pages.next_moves import next_moves
from arkund.studio.services import housekeeping, moves, proposing, styles
from arkund.studio.services.access import session_or_404, user_of
from arkund.studio.services.findings import notes
from arkund.studio.services.measuring import Measure
from arkund.studio.steps import STEPS


def answer(session_id: int, move: Move | None, said: str = "", deed: str = "done") -> JsonResponse:
    """Return what every change is answered with; ``said`` is what there is to tell beside the Move's title, ``deed`` what became of the Move: done, undone,
    done again. The Moves that are the next to be turned are named, so that the page knows them before it measures.
    """
    session = Session.objects.get(pk=session_id)
    if move is not None:
        background.keep_whole(session)
    return JsonResponse(
        {
            "version": session.version,
            "move": move.number if move else None,
            "title": move.title if move else "",
            "step": move.step if move else "",
            "deed": deed if move else "",
            "said": said,
            **next_moves(session),
        }
    )


def step_of(body: dict, default=...) -> str:
    """Return the step that a page names."""
    step = wanted(body, "step", str, default)
    if step not in STEPS:
        raise SettingsError(f"step: expected one of {', '.join(STEPS)}; got {step!r}.")
    return step


@require_POST
def move(request: HttpRequest, session_id: int) -> JsonResponse:
    """Change settings of the Plan as one Move; those of a ``scene`` where one is named."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    values = wanted(body, "changes", dict)
    title, scene = wanted(body, "title", str, ", ".join(values)), wanted(body, "scene", str, "")
    change = changes.settings(session.plan, values, title, scene)
    try:
        made = moves.apply(
            session_id,
            change.values,
            step=step_of(body, "load"),
            title=change.title,
            reason=wanted(body, "reason", str, ""),
            version=wanted(body, "version", int),
        )
    except UnchangedError:
        return answer(session_id, None, said=f"{title} already")
    return answer(session_id, made)


@require_POST
def undo(request: HttpRequest, session_id: int) -> JsonResponse:
    """Take back the last Move, the one that the page names."""
    session_or_404(request, session_id)
    return answer(session_id, moves.undo(session_id, wanted(body_of(request), "move", int, None)), deed="undone")


@require_POST
def redo(request: HttpRequest, session_id: int) -> JsonResponse:
    """Do the last undone Move again, the one that the page names."""
    session_or_404(request, session_id)
    return answer(session_id, moves.redo(session_id, wanted(body_of(request), "move", int, None)), deed="done again")


@require_POST
def remove(request: HttpRequest, session_id: int) -> HttpResponse:
    """Delete a session; `arkund doctor --restore` brings it back for a month."""
    housekeeping.remove(session_or_404(request, session_id))
    return redirect("home")


@require_POST
def decide(request: HttpRequest, session_id: int) -> JsonResponse:
    """Do what a finding suggests, or leave it with a reason."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    step, key = step_of(body), wanted(body, "key", str)
    note = next((n for n in notes(step, session, Measure(session)) if n.finding.key == key), None)
    if note is None:
        raise SettingsError("key: this note no longer applies; the page will show what is measured now.")
    reason = wanted(body, "reason", str, "")
    verdict = wanted(body, "verdict", str)
    if verdict == "do":
        if note.state == Decision.DONE and not note.changed:
            raise UnchangedError(f"{note.finding.title}: this is done already.")
        return answer(session_id, proposing.accept(session_id, note.finding, reason, wanted(body, "version", int)))
    if verdict != "leave":
        raise SettingsError(f"verdict: expected do or leave, got {verdict!r}.")
    proposing.leave(session_id, note.finding, reason)
    return answer(session_id, None)


@require_POST
def propose(request: HttpRequest, session_id: int) -> JsonResponse:
    """Start the job that accepts every first choice; without ``anyway`` it asks first which mic is which, where that is in doubt."""
    session_or_404(request, session_id)
    given = {"anyway": wanted(body_of(request), "anyway", bool, False)}
    return JsonResponse({"job": runner.start("propose", given, "every first choice", session_id, user_of(request)).pk})


@require_POST
def work_out(request: HttpRequest, session_id: int) -> JsonResponse:
    """Start to work out what brings the kit to the targets of a style, as a job; nothing is changed."""
    session_or_404(request, session_id)
    style = wanted(body_of(request), "style", str)
    styles.settings_of(style, user_of(request))
    return JsonResponse(
        {"job": runner.start("style", {"style": style}, f"the style {style}", session_id, user_of(request)).pk}
    )


@require_POST
def use_style(request: HttpRequest, session_id: int) -> JsonResponse:
    """Do what was worked out for a style."""
    session_or_404(request, session_id)
    body = body_of(request)
    made = styles.use(session_id, wanted(body, "style", str), wanted(body, "version", int), user_of(request))
    return answer(session_id, made[-1], said=f"{len(made)} deeds, told under What I did")


@require_POST
def keep_style(request: HttpRequest, session_id: int) -> JsonResponse:
    """Keep what the kit measures as a style of one's own, or remove one."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    name = wanted(body, "name", str)
    if wanted(body, "remove", bool, False):
        styles.remove(name, user_of(request))
        return answer(session_id, None, said=f"style {name} removed")
    kept = styles.keep(session, name, user_of(request))
    return answer(session_id, None, said=f"style {kept.name} kept: its ranges lie about what this kit measures")


@require_POST
def choose_take(request: HttpRequest, session_id: int) -> JsonResponse:
    """Make a take the working take; its hits are found first. Edits in time belong to one take and are set aside."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    take = get_object_or_404(session.takes, key=wanted(body, "take", str))
    given = {"take": take.key, "version": wanted(body, "version", int), "look": wanted(body, "look", bool, False)}
    return JsonResponse({"job": runner.start("take", given, f"hits of {take.name}", session_id, user_of(request)).pk})


@require_POST
def change_hit(request: HttpRequest, session_id: int) -> JsonResponse:
    """Add, move or remove a hit by hand."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    new = HitChange.from_json(wanted(body, "change", dict))
    if new.kind == "move" and new.to_s is None:
        raise SettingsError("to_s: a moved hit needs its new time.")
    existing = [c.to_json() for c in session.plan.hit_changes]
    words = {"add": "Hit added", "move": "Hit moved", "remove": "Hit removed"}[new.kind]
    made = moves.apply(
        session_id,
        {"hit_changes": [*existing, new.to_json()]},
        step="load",
        title=f"{words}: {new.piece} at {new.time_s:.3f} s",
        version=wanted(body, "version", int),
    )
    return answer(session_id, made)
