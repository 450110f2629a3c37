"""Releases set as note values follow the tempo of the song. Compressors are told by their kind: what computes is not imported where a Move is made."""

from typing import Any

from arkund.core.plan.plan import Plan
from arkund.core.rig import places
from arkund.core.timing.note_values import note_ms
from arkund.core.tools.tool import Tool


def followed(before: Plan, after: Plan) -> dict[str, Any]:
    """Return the settings, by path, that change with others: the release in ms of compressors whose release is a note value, where that or the tempo of the
    song (at its first bar) changed; one whose ms were set by hand goes by time from then on.
    """
    was = {(each.place, tool.id): tool for each in places.all_of(before) for tool in each.strip.tools}
    out: dict[str, Any] = {}
    for each in places.all_of(after):
        for tool in each.strip.tools:
            if tool.kind == "compressor" and tool.released_by_note:
                change = _changed(before, after, was.get((each.place, tool.id)), tool)
                out |= {f"{each.place}.tools.{tool.id}.{name}": value for name, value in change.items()}
    return out


def _release_ms(compressor: Tool, plan: Plan) -> float:
    """Return a compressor's note value in ms at a Plan's tempo, to the step and within the range of a release."""
    tempo, limits = plan.tempo, compressor.ranges()["release_ms"]
    found = round(note_ms(compressor.release_by, tempo.bpm, tempo.beats_per_bar, tempo.beat_unit))
    return float(min(max(found, limits.low), limits.high))


def _changed(before: Plan, after: Plan, was: Tool | None, now: Tool) -> dict[str, Any]:
    """Return what follows for one compressor."""
    wanted_ms = _release_ms(now, after)
    if now.release_ms == wanted_ms:
        return {}
    same_note = was is not None and getattr(was, "release_by", "") == now.release_by
    if same_note and was.release_ms != now.release_ms:
        return {"release_by": "time"}
    retimed = _release_ms(now, before) != wanted_ms
    return {"release_ms": wanted_ms} if retimed or not same_note else {}
