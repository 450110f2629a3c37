"""What the pages of the edit half ask for: bars and strokes to the grid, bar lines, joined takes, hits and tempo maps from files."""

import tempfile
from pathlib import Path

from django.http import FileResponse, HttpRequest, JsonResponse
from django.views.decorators.http import require_GET, require_POST

from arkund.core.errors import SettingsError
from arkund.core.takes.comp import counted, seam_words
from arkund.core.takes.settings import CompSettings
from arkund.core.timing.settings import QuantiseSettings
from arkund.studio.jobs import runner
from arkund.studio.pages.actions import answer
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.services import comping, editing, moves, proposing, shelf_files, taking_in, templates, uploads
from arkund.studio.services.access import session_or_404, sessions_of, user_of
from arkund.studio.services.measuring import Measure

MOST_UPLOAD_BYTES = 400_000_000  # a click's recording


@require_POST
def quantise(request: HttpRequest, session_id: int) -> JsonResponse:
    """Pull a range of bars to the grid, all mics together."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    settings = QuantiseSettings.from_json(wanted(body, "settings", dict))
    made, move = editing.quantise_session(session, settings, wanted(body, "version", int))
    return answer(session_id, move, said=made.words)


@require_POST
def stroke(request: HttpRequest, session_id: int) -> JsonResponse:
    """Move one stroke by some ms; the others stay."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    by_ms = wanted(body, "by_ms", float)
    furthest = QuantiseSettings.ranges()["most_ms"].high
    if not -furthest <= by_ms <= furthest:
        raise SettingsError(f"by_ms: {by_ms:g} ms is outside {-furthest:g} to {furthest:g} ms.")
    at = wanted(body, "time_s", float)
    _, move = editing.move_one(session, at, by_ms, wanted(body, "version", int))
    return answer(session_id, move)


@require_POST
def line(request: HttpRequest, session_id: int) -> JsonResponse:
    """Put a bar line to a time; its neighbours stay."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    at = wanted(body, "time_s", float)
    return answer(session_id, editing.move_line(session, wanted(body, "bar", int), at, wanted(body, "version", int)))


@require_POST
def tempo(request: HttpRequest, session_id: int) -> JsonResponse:
    """Take the tempo map that explains the hits, with its doubt in the logbook; in a given meter or the played one."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    found = proposing.estimate(session_id, wanted(body, "meter", str, ""), wanted(body, "following", bool, False))
    if found is None:
        raise SettingsError("tempo: too few hits to estimate it; type the tempo or load a MIDI file.")
    changes, words = found
    title = f"Tempo {changes['tempo']['bpm']:.2f} BPM from the hits"
    made = moves.apply(session_id, changes, step="timing", title=title, measured=words, version=session.version)
    return answer(session_id, made, said=words)


@require_POST
def comp(request: HttpRequest, session_id: int) -> JsonResponse:
    """Take bars from a take, copy bars elsewhere, let the best bars be chosen, move a join, or go back to one take."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    version, action = wanted(body, "version", int), wanted(body, "action", str)
    takes = comping.comp_of(session)
    plan, fade_ms = takes.plan, wanted(body, "fade_ms", float, CompSettings().fade_ms)
    names = dict(session.takes.values_list("key", "name"))
    if action == "use":
        first, last, take = wanted(body, "first_bar", int), wanted(body, "last_bar", int), wanted(body, "take", str)
        source = wanted(body, "from_bar", int, None)
        new = takes.with_chosen(takes.with_bars(plan, first, last, take, fade_ms, source), first, last, take)
        title = f"{editing.bars_words(first, last)} from {names[take]}" + (
            f", its bar {source + 1} on" if source is not None else ""
        )
    elif action == "propose":
        settings = CompSettings(most_joins=wanted(body, "most_joins", int), fade_ms=fade_ms)
        new = takes.proposal(settings)
        kept = len(takes.by_hand(plan))
        title = f"Best bars, {counted(takes.seams(new))}" + (f"; {kept} bars chosen by hand kept" if kept else "")
    elif action == "join":
        new, title = takes.with_join_moved(plan, wanted(body, "number", int)), "Join to the next better place"
    elif action == "clear":
        new, title = plan.replace(joins=(), chosen_bars=()), f"All of {names[plan.take]}, no joins"
    else:
        raise SettingsError(f"action: expected use, propose, join or clear; got {action!r}.")
    words = seam_words(takes.seams(new))
    return answer(session_id, comping.keep(session, plan, new, title, words, version), said=words)


@require_GET
def export(request: HttpRequest, session_id: int, ending: str) -> FileResponse:
    """Return the hits where they sound as a file: MIDI, CSV, or JSON with the edit list."""
    session = session_or_404(request, session_id)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"hits.{ending}"
        editing.export(Measure(session), path)
        data = path.open("rb")
    return FileResponse(data, as_attachment=True, filename=f"{session.name} hits.{ending}")


@require_POST
def take_in(request: HttpRequest, session_id: int) -> JsonResponse:
    """Start to take hits, a tempo map, a backing track or one-shots from uploaded files, as a job."""
    session = session_or_404(request, session_id)
    given, what = request.FILES.getlist("file"), request.POST.get("what", "hits")
    size = sum(file.size for file in given)
    if not given or size > MOST_UPLOAD_BYTES or (len(given) > 1 and what != "shelf"):
        raise SettingsError("file: choose one file, of one-shots one or several, of at most 400 MB.")
    if what not in taking_in.WHAT:
        raise SettingsError(f"what: expected one of {', '.join(taking_in.WHAT)}; got {what[:40]!r}.")
    uploads.check_share(user_of(request), size)
    with uploads.taken(given, [file.name for file in given]) as folder:
        title = f"taking in {given[0].name}" if len(given) == 1 else f"taking in {len(given)} hits"
        arguments = {"folder": folder.name, "what": what, "piece": request.POST.get("piece", "")}
        job = runner.start("take-in", arguments, title, session.pk, user_of(request))
    return JsonResponse({"job": job.pk})


@require_GET
def shelves(request: HttpRequest, session_id: int) -> JsonResponse:
    """Return the other sessions that have hits on their shelves."""
    session_or_404(request, session_id)
    others = sessions_of(request).filter(ready=True).exclude(pk=session_id)
    found = [[each.pk, each.name] for each in others if each.plan_json.get("captures")]
    return JsonResponse({"shelves": found})


@require_POST
def take_over(request: HttpRequest, session_id: int) -> JsonResponse:
    """Take the shelf of another session over."""
    session, body = session_or_404(request, session_id), body_of(request)
    other = session_or_404(request, wanted(body, "other", int))
    made = shelf_files.take_over(session, other, user_of(request), wanted(body, "version", int))
    return answer(session_id, made)


@require_GET
def around(request: HttpRequest, session_id: int) -> JsonResponse:
    """Return one moment in all mics, sample by sample, as recorded and as edited."""
    session = session_or_404(request, session_id)
    try:
        at = float(request.GET.get("at", ""))
    except ValueError as error:
        raise SettingsError("at: expected a time in seconds.") from error
    if not 0.0 <= at <= 36000.0:
        raise SettingsError(f"at: {at:g} s is outside 0 to 36000 s.")
    return JsonResponse(editing.around(Measure(session), at))


@require_GET
def null(request: HttpRequest, session_id: int) -> JsonResponse:
    """Return what is left of one path when another is taken away: the null test."""
    session = session_or_404(request, session_id)
    a, b = (request.GET.get(name, "")[:80] for name in "ab")
    left, gain = Measure(session).null(a, b)
    return JsonResponse({"left_db": round(left, 1), "gain_db": round(gain, 1)})


@require_POST
def template(request: HttpRequest, session_id: int) -> JsonResponse:
    """Keep the session's settings as a template."""
    session = session_or_404(request, session_id)
    made = templates.keep(session, wanted(body_of(request), "name", str), user_of(request))
    return answer(session_id, None, said=f"Kept as the template “{made.name}”.")
