"""The page of reckonings: typed values and those of the session."""

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from arkund.studio.services import reckoning
from arkund.studio.services.access import session_or_404
from arkund.studio.services.measuring import Measure
from arkund.studio.steps import STEPS


def page(request: HttpRequest, session_id: int) -> HttpResponse:
    """Show every sheet, with the values that the session knows by name."""
    session = session_or_404(request, session_id)
    sheets = reckoning.sheets(Measure(session))
    boot = {"session": session.pk}
    context = {"session": session, "steps": list(STEPS.values()), "step": None, "sheets": sheets, "boot": boot}
    return render(request, "reckon/reckon.html", context)


@require_GET
def answer(request: HttpRequest, session_id: int, sheet: str) -> JsonResponse:
    """Answer one sheet by what was typed."""
    session = session_or_404(request, session_id)
    typed = {key: value[:40] for key, value in request.GET.items()}
    return JsonResponse({"lines": reckoning.answer(Measure(session), sheet, typed)})
