"""Strips as they are set: a row of tools, a level, a place, on or off in the mix, sends, and where they go."""

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, number, text
from arkund.core.tools.tool import MOST_TOOLS, Tool

OFF_DB = -60.0  # a send at this level is closed
STRIP_ID = r"[a-z0-9][-_a-z0-9]*"
MOST_STRIPS = 64  # groups, and paths, of one Plan


@dataclass(frozen=True, slots=True, kw_only=True)
class Send(Settings):
    """How much of a strip a path gets: what its tools leave, before its level."""

    id: str = text(longest=40, pattern=STRIP_ID)  # of the path
    level_db: float = number(OFF_DB, OFF_DB, 12.0, step=0.5, unit="dB", help="-60 = not sent")


@dataclass(frozen=True, slots=True, kw_only=True)
class Strip(Settings):
    """What all strips have. Sends are taken before the level, so that moving it never changes the paths."""

    FORMER = frozenset({"solo"})  # listening is no part of a Plan

    tools: tuple[Tool, ...] = ()
    level_db: float = number(0.0, -60.0, 12.0, step=0.1, unit="dB")
    pan: float = number(0.0, -1.0, 1.0, step=0.01, help="-1 left, 0 middle, 1 right")
    mute: bool = False  # off in the mix, in prints as well
    sends: tuple[Send, ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        _check_row(self.tools)
        once("sends", [send.id for send in self.sends])

    def send_db(self, path_id: str) -> float:
        """Return how much of the strip a path gets, OFF_DB for nothing."""
        return next((send.level_db for send in self.sends if send.id == path_id), OFF_DB)

    def first(self, kind: str) -> Tool | None:
        """Return the first tool of a kind, None where there is none."""
        return next((tool for tool in self.tools if tool.kind == kind), None)

    def tool(self, tool_id: str) -> Tool | None:
        """Return the tool of an id, None where there is none."""
        return next((tool for tool in self.tools if tool.id == tool_id), None)

    def with_tool(self, tool: Tool) -> tuple[Tool, ...]:
        """Return the row with a tool in the place of the one with its id, at the end where there is none."""
        if all(mine.id != tool.id for mine in self.tools):
            return (*self.tools, tool)
        return tuple(tool if mine.id == tool.id else mine for mine in self.tools)


@dataclass(frozen=True, slots=True, kw_only=True)
class Group(Strip):
    """The sum of its members."""

    id: str = text(longest=40, pattern=STRIP_ID)
    name: str = text(longest=40)


@dataclass(frozen=True, slots=True, kw_only=True)
class Path(Strip):
    """A parallel strip, fed by sends. into : a group's id, "" = the kit."""

    id: str = text(longest=40, pattern=STRIP_ID)
    name: str = text(longest=40)
    into: str = text("", longest=40)


@dataclass(frozen=True, slots=True, kw_only=True)
class Kit(Settings):
    """The strip in which groups and paths come together."""

    tools: tuple[Tool, ...] = ()
    level_db: float = number(0.0, -24.0, 12.0, step=0.1, unit="dB")

    first, tool, with_tool = Strip.first, Strip.tool, Strip.with_tool

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        _check_row(self.tools)


def _check_row(tools: tuple[Tool, ...]) -> None:
    """Raise SettingsError for a row of too many tools, or with an id twice."""
    once("tools", [tool.id for tool in tools])
    if len(tools) > MOST_TOOLS:
        raise SettingsError(f"tools: at most {MOST_TOOLS} in a row, got {len(tools)}.")


def once(where: str, keys: Iterable[Any]) -> None:
    """Raise SettingsError where something stands twice."""
    seen = set()
    for key in keys:
        if key in seen:
            raise SettingsError(f"{where}: {key!r} stands there twice.")
        seen.add(key)
