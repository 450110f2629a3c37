"""One page per step of the job: its question, its shell and its data."""

from dataclasses import dataclass

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render

from arkund.core.errors import SettingsError
from arkund.studio.jobs import background
from arkund.studio.models import Decision, Move, Session
from arkund.studio.pages.charts import CHARTS, mic_list
from arkund.studio.pages.charts_in_time import bars_of_song
from arkund.studio.pages.fields import fields_of, ranges_of
from arkund.studio.services.access import session_or_404
from arkund.studio.services.findings import STEPS, notes
from arkund.studio.services.measuring import Measure


@dataclass(frozen=True, slots=True)
class Step:
    """A step's name, the question that its page answers, and a sentence on how to read the chart."""

    key: str
    name: str
    question: str
    reading: str


PAGES = {
    s.key: s
    for s in (
        Step(
            "load",
            "Load",
            "What did each mic really hear?",
            "Every mic over the song; above them the hits that were found, by piece, and the bar lines, which can be dragged.",
        ),
        Step(
            "level",
            "Level",
            "Has every drum room to grow?",
            "Each point is one hit's peak in its own mic after the trim; the hatched band is the window.",
        ),
        Step(
            "lineup",
            "Line up",
            "Do the mics push together, at the same moment?",
            "The average hit of one drum in every mic; the line marks where its sound begins in the reference.",
        ),
        Step(
            "takes",
            "Takes",
            "Which bar of which take tells it best?",
            "Each column is a bar: the taller, the better it is played; marked ones are heard.",
        ),
        Step(
            "timing",
            "Timing",
            "How far is each hit from where it was meant?",
            "A row per bar, each glyph where the stroke fell; beside it the kit's drift.",
        ),
        Step(
            "clean",
            "Clean",
            "Whose sound is this?",
            "Own hits above, other drums' hits below, by level in this mic; the line is the threshold.",
        ),
        Step(
            "replace",
            "Replace",
            "Which hits are missing or too weak?",
            "Every hit of the piece by strength over the song.",
        ),
        Step(
            "tone",
            "Tone",
            "Which frequencies does each drum own?",
            "Solid: this mic during its own hits. Dashed: between hits. Dotted: during other drums' hits.",
        ),
        Step("punch", "Punch", "How is the hit shaped in time?", "The average hit: thin before, heavy after."),
        Step(
            "blend",
            "Blend",
            "How do drums and paths add up?",
            "Each row is a mic: its level, place and sends; below, what the bus takes away.",
        ),
        Step(
            "print",
            "Print",
            "What leaves the room, and can it be made again?",
            "Every output over the whole song as it stands; dashed: the peak that the kit should stay below.",
        ),
    )
}


def page(request: HttpRequest, session_id: int, step: str) -> HttpResponse:
    """Show a step's page; its data follows by :func:`data`."""
    session = session_or_404(request, session_id)
    context = {
        "session": session,
        "step": PAGES[step],
        "steps": list(PAGES.values()),
        "ranges": ranges_of(step),
        "boot": {
            "session": session.pk,
            "step": step,
            "version": session.version,
            "rate": session.sample_rate_hz,
            "mics": mic_list(session, session.plan),
            "fields": fields_of(step),
        },
    }
    return render(request, f"{step}/{step}.html", context)


def data(request: HttpRequest, session_id: int, step: str) -> JsonResponse:
    """Return the chart's data, the margin notes and what undo and redo would do, all at one version."""
    session = session_or_404(request, session_id)
    background.keep_whole(session)
    measure = Measure(session)
    chosen = request.GET.get("of") or None
    if chosen is not None and len(chosen) > 60:
        raise SettingsError("of: too long.")
    chart = CHARTS[step](measure, chosen)
    undo = session.moves.filter(state=Move.DONE).order_by("-number").first()
    redo = session.moves.filter(state=Move.UNDONE).order_by("number").first()
    return JsonResponse(
        {
            "version": session.version,
            "chart": chart,
            "notes": [
                {
                    "number": n.number,
                    "key": n.finding.key,
                    "place": n.finding.place,
                    "title": n.finding.title,
                    "evidence": n.finding.evidence,
                    "can_do": bool(n.finding.changes),
                    "state": n.state,
                    "reason": n.reason,
                }
                for n in notes(step, session, measure)
            ],
            "undo": undo.title if undo else "",
            "redo": redo.title if redo else "",
            "settled": settled(session),
            "bars": bars_of_song(measure),
            "sections": [s.to_json() for s in measure.plan.sections],
            "length_s": measure.recordings.length(measure.plan.take) / measure.rate,
        }
    )


def settled(session: Session) -> dict[str, int]:
    """Return for each step how many Moves and decisions stand: the plan of work on the rail."""
    counts = dict.fromkeys(STEPS, 0)
    for step in session.moves.filter(state=Move.DONE).values_list("step", flat=True):
        if step in counts:
            counts[step] += 1
    for step in session.decisions.filter(verdict=Decision.LEFT).values_list("step", flat=True):
        if step in counts:
            counts[step] += 1
    return counts
