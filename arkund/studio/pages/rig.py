"""What pages ask of the rig: mics cleaned, hits kept, replaced and laid under others, tools, keys, groups, paths and scenes."""

from collections.abc import Callable

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.core.errors import SettingsError
from arkund.core.rig import changes
from arkund.core.rig.changes import Change
from arkund.studio.models import Session
from arkund.studio.pages.actions import answer, step_of
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.services import blending, cleaning, layering, rigging, shelving, toning, top_down
from arkund.studio.services.access import session_or_404
from arkund.studio.services.measuring import Measure

MOST_S = 36000.0  # of a song


def _place(body: dict) -> int | None:
    return wanted(body, "at", int) if "at" in body else None


def _span_s(body: dict) -> tuple[float, float]:
    """Return a span of the song in seconds."""
    given = wanted(body, "span_s", list)
    if len(given) != 2 or any(type(each) not in (int, float) or not 0.0 <= each <= MOST_S for each in given):
        raise SettingsError(f"span_s: expected a beginning and an end within 0 to {MOST_S:g} s.")
    return float(given[0]), float(given[1])


def _others(body: dict) -> list[str]:
    others = wanted(body, "others", list)
    if not others or any(not isinstance(each, str) for each in others):
        raise SettingsError("others: expected names of strips.")
    return others


def _tool(body: dict) -> tuple[str, str]:
    return wanted(body, "strip", str), wanted(body, "tool", str)


def _scene(session: Session, body: dict) -> Change:
    """Return the change of where a scene holds, its fade or its name."""
    values = {}
    if "sections" in body:
        values["sections"] = tuple(_words(body, "sections"))
    if "bars" in body:
        values["bars"] = _bars(session, body)
    if "fade_ms" in body:
        values["fade_ms"] = wanted(body, "fade_ms", float)
    if "name" in body:
        values["name"] = wanted(body, "name", str)
    return changes.set_scene(session.plan, wanted(body, "scene", str), **values)


def _words(body: dict, name: str) -> list[str]:
    words = wanted(body, name, list, [])
    if any(not isinstance(each, str) for each in words):
        raise SettingsError(f"{name}: expected names.")
    return words


def _bars(session: Session, body: dict) -> tuple[tuple[int, int], ...]:
    given = wanted(body, "bars", list, [])
    if any(not isinstance(each, list) or len(each) != 2 or any(type(bar) is not int for bar in each) for each in given):
        raise SettingsError("bars: expected pairs of whole numbers, the first bar and the one after the last.")
    bars = tuple((first, after) for first, after in given)
    rigging.check_bars(session, bars)
    return bars


DOINGS: dict[str, Callable[[Session, dict], Change]] = {
    "clean": lambda s, b: cleaning.set_way(Measure(s), wanted(b, "mic", str), wanted(b, "way", str)),
    "look": lambda s, b: cleaning.set_look(Measure(s), wanted(b, "look", str)),
    "region": lambda s, b: cleaning.set_region(
        Measure(s), wanted(b, "mic", str), wanted(b, "number", int, None), _span_s(b) if b.get("span_s") else None
    ),
    "region-floor": lambda s, b: cleaning.set_floor(
        Measure(s), wanted(b, "mic", str), wanted(b, "number", int), wanted(b, "down_db", float, None)
    ),
    "by-band": lambda s, b: cleaning.by_band(
        Measure(s), wanted(b, "mic", str), wanted(b, "what", str), wanted(b, "other", str, "")
    ),
    "lay": lambda s, b: layering.add(Measure(s), wanted(b, "piece", str), wanted(b, "sort", str)),
    "split": lambda s, b: layering.split(
        Measure(s), wanted(b, "piece", str), wanted(b, "hz", float) if "hz" in b else None
    ),
    "lay-hits": lambda s, b: layering.add_hits(
        Measure(s), wanted(b, "piece", str), _words(b, "captures"), wanted(b, "into", bool, False)
    ),
    "through": lambda s, b: layering.through(Measure(s), wanted(b, "layer", str), wanted(b, "mic", str)),
    "keep-hit": lambda s, b: shelving.capture(
        Measure(s),
        wanted(b, "piece", str),
        wanted(b, "time_s", float) if "time_s" in b else None,
        wanted(b, "take", str, ""),
    ),
    "off-shelf": lambda s, b: shelving.remove(s.plan, wanted(b, "capture", str)),
    "replace-hit": lambda s, b: shelving.replace(
        Measure(s),
        wanted(b, "piece", str),
        wanted(b, "time_s", float),
        capture_id=wanted(b, "capture", str, ""),
        everywhere=wanted(b, "everywhere", bool, True),
        as_played=wanted(b, "as_played", bool, False),
    ),
    "put-back": lambda s, b: shelving.put_back(s.plan, wanted(b, "time_s", float), s.sample_rate_hz),
    "take-way": lambda s, b: layering.take_way(Measure(s), wanted(b, "piece", str), wanted(b, "way", str)),
    "move-band": lambda s, b: rigging.move_band(s, *_tool(b), wanted(b, "band", int), wanted(b, "range_db", float)),
    "take-layer": lambda s, b: layering.remove(Measure(s), wanted(b, "layer", str)),
    "open-again": lambda s, b: layering.again(Measure(s), wanted(b, "layer", str)),
    "add-tool": lambda s, b: rigging.add_tool(s, wanted(b, "strip", str), wanted(b, "kind", str), _place(b)),
    "move-tool": lambda s, b: changes.move_tool(s.plan, *_tool(b), wanted(b, "by", int)),
    "remove-tool": lambda s, b: changes.remove_tool(s.plan, *_tool(b)),
    "copy-tool": lambda s, b: toning.copy_tool(Measure(s), *_tool(b), _others(b)),
    "part": lambda s, b: toning.part(
        Measure(s), wanted(b, "strip", str), wanted(b, "from_hz", float), wanted(b, "up_to_hz", float)
    ),
    "notch": lambda s, b: toning.notch(
        Measure(s), wanted(b, "mic", str), wanted(b, "hz", float), wanted(b, "tool", str, "")
    ),
    "set-key": lambda s, b: rigging.set_key(s, *_tool(b), wanted(b, "of", str)),
    "add-path": lambda s, b: blending.add_path(
        Measure(s), wanted(b, "recipe", str, ""), wanted(b, "name", str, ""), wanted(b, "feed", str, "shells")
    ),
    "kit-first": lambda s, _: top_down.kit_first(Measure(s)),
    "remove-path": lambda s, b: changes.remove_path(s.plan, wanted(b, "path", str)),
    "add-group": lambda s, b: changes.add_group(s.plan, wanted(b, "name", str)),
    "remove-group": lambda s, b: changes.remove_group(s.plan, wanted(b, "group", str)),
    "in-section": lambda s, b: changes.in_section(
        s.plan, wanted(b, "section", str), wanted(b, "values", dict), wanted(b, "title", str)[:120]
    ),
    "add-scene": lambda s, b: changes.add_scene(s.plan, wanted(b, "name", str), _words(b, "sections"), _bars(s, b)),
    "set-scene": _scene,
    "remove-scene": lambda s, b: changes.remove_scene(s.plan, wanted(b, "scene", str)),
    "rename": lambda s, b: changes.rename(s.plan, wanted(b, "strip", str), wanted(b, "name", str)),
}


@require_POST
def change(request: HttpRequest, session_id: int) -> JsonResponse:
    """Do one of DOINGS as a Move."""
    session = session_or_404(request, session_id)
    body = body_of(request)
    doing = wanted(body, "do", str)
    if doing not in DOINGS:
        raise SettingsError(f"do: expected one of {', '.join(DOINGS)}; got {doing!r}.")
    wanted_change = DOINGS[doing](session, body)
    return answer(
        session_id, rigging.make(session, wanted_change, step_of(body, "blend"), wanted(body, "version", int))
    )
