"""Changes of a row of tools, as changes of the Plan by path."""

from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.rig.strips import Kit, Strip
from arkund.core.tools.tool import KINDS, Tool, free_id

Row = tuple[Tool, ...]


def put(place: str, strip: Strip | Kit, tool: Tool) -> dict[str, Any]:
    """Return the change by which a strip has a tool's settings: those of its first tool of the kind, or a new one in its first place.

    place : the strip's path in the Plan, such as ``mics.kick-in``
    """
    mine = strip.first(tool.kind)
    if mine is not None:
        return {f"{place}.tools.{mine.id}": tool.replace(id=mine.id).to_json()}
    return {f"{place}.tools": [each.to_json() for each in added(strip.tools, tool)]}


def put_all(place: str, strip: Strip | Kit, *tools: Tool) -> dict[str, Any]:
    """Return the change by which a strip has the settings of several tools, none of a kind with another."""
    if all(strip.first(tool.kind) for tool in tools):
        return {path: value for tool in tools for path, value in put(place, strip, tool).items()}
    row = strip.tools
    for tool in tools:
        mine = strip.first(tool.kind)
        row = added(row, tool) if mine is None else tuple(tool.replace(id=t.id) if t is mine else t for t in row)
    return {f"{place}.tools": [each.to_json() for each in row]}


def with_own_id(row: Row, tool: Tool) -> Row:
    """Return a row with a tool in the place of the one with its id, else under that id where its kind usually stands."""
    known = {each.id for each in row}
    if tool.id in known:
        return tuple(tool if each.id == tool.id else each for each in row)
    return tuple(each if each.id in known else tool for each in added(row, tool))


def put_own(place: str, strip: Strip | Kit, tool: Tool) -> dict[str, Any]:
    """Return the change by which a strip has a tool under its own id, see :func:`with_own_id`. place : the strip's path in the Plan"""
    return {f"{place}.tools": [each.to_json() for each in with_own_id(strip.tools, tool)]}


def added(row: Row, tool: Tool, at: int | None = None) -> Row:
    """Return a row with one more tool, under an id of its own: at a place, or where its kind usually stands."""
    tool = tool.replace(id=free_id(tool.kind, {each.id for each in row}))
    if at is None:
        later = KINDS[KINDS.index(tool.kind) + 1 :]
        at = next((k for k, each in enumerate(row) if each.kind in later), len(row))
    return (*row[:at], tool, *row[at:])


def removed(row: Row, tool_id: str) -> Row:
    """Return a row without a tool. Raises SettingsError where there is none of the id."""
    at = place_of(row, tool_id)
    return (*row[:at], *row[at + 1 :])


def moved(row: Row, tool_id: str, by: int) -> Row:
    """Return a row with a tool so many places later (earlier where negative), at most to its end. Raises SettingsError where there is none of the id."""
    at = place_of(row, tool_id)
    rest, to = removed(row, tool_id), min(max(at + by, 0), len(row) - 1)
    return (*rest[:to], row[at], *rest[to:])


def place_of(row: Row, tool_id: str) -> int:
    """Return at which place of its row a tool stands. Raises SettingsError where there is none of the id."""
    for at, each in enumerate(row):
        if each.id == tool_id:
            return at
    there = ", ".join(each.id for each in row) or "none"
    raise SettingsError(f"tools: no tool {tool_id!r} in this row; there are {there}.")
