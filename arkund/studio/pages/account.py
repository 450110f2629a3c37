"""The account of the one click: what was wrong, what was done, what is left to the ear; each deed heard and undone by itself."""

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from arkund.studio.pages.actions import answer
from arkund.studio.pages.charts import mic_list
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.pages.steps import page_data
from arkund.studio.services import account, reverting
from arkund.studio.services.access import session_or_404
from arkund.studio.services.measuring import Measure
from arkund.studio.steps import STEPS, Step

PAGE = Step("account", "What I did", "What was done, and would you sign it?", "Largest audible effect first.")


def page(request: HttpRequest, session_id: int) -> HttpResponse:
    """Show the account; its data follows by :func:`data`."""
    session = session_or_404(request, session_id)
    boot = {
        "session": session.pk,
        "step": PAGE.key,
        "compare": "kit",  # with no deed chosen: the raw kit
        "version": session.version,
        "rate": session.sample_rate_hz,
        "mics": mic_list(session.plan, PAGE.key),
        "pages": {each.key: each.name for each in STEPS.values()},
    }
    context = {"session": session, "step": PAGE, "steps": list(STEPS.values()), "boot": boot}
    return render(request, "account/account.html", context)


def data(request: HttpRequest, session_id: int) -> JsonResponse:
    """Return the account, with what every page is told."""
    session = session_or_404(request, session_id)
    measure = Measure(session)
    told = account.account(session, measure).to_json() | {"span_s": _seconds(measure)}
    return page_data(session, measure, told)


@require_POST
def revert(request: HttpRequest, session_id: int) -> JsonResponse:
    """Take one deed back, whatever came after it, or do it again."""
    session_or_404(request, session_id)
    body = body_of(request)
    move = wanted(body, "move", int)
    return answer(session_id, reverting.revert(session_id, move))


def _seconds(measure: Measure) -> list[float]:
    return [round(sample / measure.rate, 2) for sample in account.listened(measure)]
