"""The list of sessions and templates."""

from django.core.paginator import Paginator
from django.db.models import Count
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from arkund.core.timing.settings import OFFERED_METERS
from arkund.studio.models import Move, Session, Take
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.pages.fields import ranges_of
from arkund.studio.services import templates
from arkund.studio.services.access import sessions_of, user_of
from arkund.studio.steps import KIT

PER_PAGE = 25
LONGEST_SEARCH = 120


def sessions(request: HttpRequest) -> HttpResponse:
    """Show the sessions, 25 at a time, and the place to drop a folder; ``find`` is a part of a name, ``page`` a number."""
    find = request.GET.get("find", "")[:LONGEST_SEARCH].replace("\0", "").strip()
    found = sessions_of(request).filter(ready=True)
    if find:
        found = found.filter(name__icontains=find)
    page = Paginator(found.order_by("-created", "-pk").values_list("pk", flat=True), PER_PAGE).get_page(
        request.GET.get("page", "1")[:9]
    )
    context = {
        "page": page,
        "find": find,
        "sessions": _rows(list(page.object_list)),
        "ranges": ranges_of("home"),
        "meters": OFFERED_METERS,
        "templates": templates.of_user(user_of(request)),
    }
    return render(request, "home/home.html", context)


def _rows(pks: list[int]) -> list[dict]:
    """Return what the list shows of some sessions, in their order. Plans, which are long, are left alone."""
    rows = {
        row["pk"]: row for row in Session.objects.filter(pk__in=pks).values("pk", "name", "sample_rate_hz", "created")
    }
    brought = set(Move.objects.filter(session__in=pks, state=Move.DONE, step=KIT).values_list("session", flat=True))
    for pk, row in rows.items():  # what was brought to its targets opens with what came of it
        row["first_page"] = KIT if pk in brought else "load"
    for name, model in (("takes", Take), ("moves", Move)):
        counted = model.objects.filter(session__in=pks).order_by().values_list("session").annotate(Count("pk"))
        counts = dict(counted)
        for pk, row in rows.items():
            row[name] = counts.get(pk, 0)
    return [rows[pk] for pk in pks]


@require_POST
def rename_template(request: HttpRequest, template_id: int) -> JsonResponse:
    """Give a template another name."""
    template = get_object_or_404(templates.of_user(user_of(request)), pk=template_id)
    templates.rename(template, wanted(body_of(request), "name", str))
    return JsonResponse({"name": template.name})


@require_POST
def remove_template(request: HttpRequest, template_id: int) -> HttpResponse:
    """Delete a template; what was started from it stays as it is."""
    get_object_or_404(templates.of_user(user_of(request)), pk=template_id).delete()
    return redirect("home")
