"""What pages ask of the rig: tools added, moved, removed and copied, keys, groups and paths."""

from collections.abc import Callable

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.core.errors import SettingsError
from arkund.studio.models import Move, Session
from arkund.studio.pages.actions import answer
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.services import rigging
from arkund.studio.services.access import session_or_404


def _place(body: dict) -> int | None:
    return wanted(body, "at", int) if "at" in body else None


def _others(body: dict) -> list[str]:
    others = wanted(body, "others", list)
    if not others or any(not isinstance(each, str) for each in others):
        raise SettingsError("others: expected names of strips.")
    return others


Do = Callable[[Session, dict, int], Move]
DOINGS: dict[str, Do] = {
    "add-tool": lambda s, b, v: rigging.add_tool(s, wanted(b, "strip", str), wanted(b, "kind", str), _place(b), v),
    "move-tool": lambda s, b, v: rigging.move_tool(
        s, wanted(b, "strip", str), wanted(b, "tool", str), wanted(b, "by", int), v
    ),
    "remove-tool": lambda s, b, v: rigging.remove_tool(s, wanted(b, "strip", str), wanted(b, "tool", str), v),
    "copy-tool": lambda s, b, v: rigging.copy_tool(s, wanted(b, "strip", str), wanted(b, "tool", str), _others(b), v),
    "set-key": lambda s, b, v: rigging.set_key(
        s, wanted(b, "strip", str), wanted(b, "tool", str), wanted(b, "of", str), v
    ),
    "add-path": lambda s, b, v: rigging.add_path(s, wanted(b, "recipe", str, ""), wanted(b, "name", str, ""), v),
    "remove-path": lambda s, b, v: rigging.remove_path(s, wanted(b, "path", str), v),
    "add-group": lambda s, b, v: rigging.add_group(s, wanted(b, "name", str), (), v),
    "remove-group": lambda s, b, v: rigging.remove_group(s, wanted(b, "group", str), v),
    "rename": lambda s, b, v: rigging.rename(s, wanted(b, "strip", str), wanted(b, "name", str), v),
}


@require_POST
def change(request: HttpRequest, session_id: int) -> JsonResponse:
    """Do one of DOINGS as a Move."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    doing = wanted(body, "do", str)
    if doing not in DOINGS:
        raise SettingsError(f"do: expected one of {', '.join(DOINGS)}; got {doing!r}.")
    return answer(session_id, DOINGS[doing](session, body, wanted(body, "version", int)))
