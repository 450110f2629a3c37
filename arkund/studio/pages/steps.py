"""One page per step of the job: its question, its shell and its data."""

from collections.abc import Sequence

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render

from arkund.core.errors import SettingsError
from arkund.core.plan.scenes import applied
from arkund.core.tools.tone import MOST_SHELF_Q
from arkund.studio.jobs import background
from arkund.studio.models import Session
from arkund.studio.pages.charts import CHARTS, mic_list
from arkund.studio.pages.charts_in_time import bars_of_song
from arkund.studio.pages.fields import WITH_ROWS, WITH_SCENES, choices_of, fields_of, ranges_of
from arkund.studio.pages.next_moves import next_moves
from arkund.studio.pages.scenes import scenes_of
from arkund.studio.services import styles
from arkund.studio.services.access import session_or_404, user_of
from arkund.studio.services.findings import Note, notes, open_by_step, remember_open
from arkund.studio.services.measuring import Measure
from arkund.studio.steps import STEPS

WITH_STYLES = ("load", "kit")


def page(request: HttpRequest, session_id: int, step: str) -> HttpResponse:
    """Show a step's page; its data follows by :func:`data`."""
    session = session_or_404(request, session_id)
    context = {
        "session": session,
        "step": STEPS[step],
        "steps": list(STEPS.values()),
        "ranges": ranges_of(step),
        "boot": {
            "session": session.pk,
            "step": step,
            "version": session.version,
            "rate": session.sample_rate_hz,
            "mics": mic_list(session.plan, step),
            "fields": fields_of(step),
            "choices": choices_of(step),
            "tools": STEPS[step].tools,
            "with_scenes": step in WITH_SCENES,
            "pages": {each.key: each.name for each in STEPS.values()},
            **({"most_shelf_q": MOST_SHELF_Q} if step in WITH_ROWS else {}),
        },
    }
    return render(request, f"{step}/{step}.html", context)


def data(request: HttpRequest, session_id: int, step: str) -> JsonResponse:
    """Return the chart's data, the margin notes and what undo and redo would do, all at one version."""
    session = session_or_404(request, session_id)
    background.keep_whole(session)
    plan, scene = session.plan, request.GET.get("scene", "")
    if step not in WITH_SCENES or all(each.id != scene for each in plan.scenes):
        scene = ""  # one that is gone, or that the page does not show, is the whole song
    measure = Measure(session, applied(plan, scene) if scene else plan)
    chosen = request.GET.get("of") or None
    if chosen is not None and len(chosen) > 60:
        raise SettingsError("of: too long.")
    chart = CHARTS[step](measure, chosen)
    if step in WITH_STYLES:
        chart["styles"] = styles.told(measure, user_of(request))
    found = notes(step, session, measure)
    if not scene:
        remember_open(session, step, found)
    return page_data(session, measure, chart, found, scene)


def page_data(
    session: Session, measure: Measure, chart: dict, found: Sequence[Note] = (), scene: str = ""
) -> JsonResponse:
    """Return what a page is told: its chart, its notes, and what all pages need, at one version."""
    return JsonResponse(
        {
            "version": session.version,
            "chart": chart,
            "notes": [_told(note) for note in found],
            **next_moves(session),
            "open": open_by_step(session),
            "bars": bars_of_song(measure),
            "sections": [s.to_json() for s in measure.plan.sections],
            "scene": scene,
            "scenes": scenes_of(session.plan),
            "length_s": measure.recordings.length(measure.plan.take) / measure.rate,
        }
    )


def _told(note: Note) -> dict:
    trial = note.finding.changes if note.finding.step == "replace" else None  # what can be heard before it is done
    return {
        "number": note.number,
        "key": note.finding.key,
        "place": note.finding.place,
        "title": note.finding.title,
        "evidence": note.finding.evidence,
        "can_do": bool(note.finding.changes),
        "trial": trial,
        "state": note.state,
        "reason": note.reason,
        "changed": note.changed,
    }
