"""What all tools have in common: an id in their row, on or off, and a kind by which stored settings find their module."""

import importlib
from collections.abc import Callable
from dataclasses import dataclass, field, fields
from types import ModuleType
from typing import Any, ClassVar, Self

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, choice, number, text

# In the order of the work, which is the first place of a new tool in a row. Modules are imported when they are first asked for: a list of sessions needs none.
KINDS = ("regions", "gate", "leveller", "tone", "shaper", "compressor", "grit", "space", "limiter")
MOST_TOOLS = 64  # in one row
Moved = Callable[
    [tuple[tuple[int, ...], ...]], np.ndarray
]  # from places of a mic's recording to where they are in the song, int64 [rows as they are given]
TOOL_ID = r"[a-z][-a-z0-9]*"


def module_of(kind: str) -> ModuleType:
    """Return the module of a kind of tool. Raises SettingsError for a kind that is not known."""
    if kind not in KINDS:
        raise SettingsError(f"kind: unknown tool {kind!r}; known are {', '.join(KINDS)}.")
    return importlib.import_module(f"arkund.core.tools.{kind}")


def settings_of(kind: str) -> type["Tool"]:
    """Return the settings class of a kind of tool."""
    return module_of(kind).SETTINGS


@dataclass(frozen=True, slots=True, kw_only=True)
class Key(Settings):
    """What a tool's detector listens to, and through which filters.

    of : "" = the strip itself; ``mic:ID`` and ``drum:PIECE`` = their sources before any tool; ``group:ID`` = what the group gives; ``hits:PIECE`` = the
    strikes of a piece, ``hits:PIECE-OTHER`` those of them that no strike of another piece is near
    """

    of: str = text("", longest=80)
    early_ms: float = number(
        1.0, 0.0, 10.0, step=0.1, unit="ms", help="strikes of a piece are known this much before they sound"
    )
    length_ms: float = number(30.0, 5.0, 500.0, step=1.0, unit="ms", help="how long a strike of a piece holds the key")
    low_hz: float = number(20.0, 20.0, 8000.0, step=1.0, unit="Hz", help="the key hears nothing below; 20 = everything")
    high_hz: float = number(
        20000.0, 100.0, 20000.0, step=1.0, unit="Hz", help="the key hears nothing above; 20000 = everything"
    )
    tilt_db: float = number(
        0.0, -12.0, 12.0, step=0.5, unit="dB", help="the key hears the top louder by so much, and the bottom softer"
    )


def kind(name: str) -> Any:
    """Declare the field that tells a tool's kind."""
    return choice(name, (name,))


@dataclass(frozen=True, slots=True, kw_only=True)
class Tool(Settings):
    """One tool of a row. A kind of tool derives from it and states its ``kind``, what it can be set to, its ``reach(sample_rate_hz)`` beyond a span, and
    where it has a detector that may hear something else, a ``key``.
    """

    drawn: ClassVar[bool] = False  # what it does is drawn over the song beforehand: see ``regions``
    of_the_song: ClassVar[tuple[str, ...]] = ()  # settings that mean nothing in another song or mic

    kind: str = field(default="")
    id: str = text("", longest=40, pattern=TOOL_ID)  # by itself that of its kind
    on: bool = False

    def __post_init__(self) -> None:
        if not self.id:
            object.__setattr__(self, "id", self.kind)
        Settings.__post_init__(self)

    @property
    def listens_to(self) -> str | None:
        """What its detector hears: "" = the strip itself, or as in ``Key.of``; None where it has none that may hear something else."""
        return self.key.of if hasattr(self, "key") else None

    @property
    def keyed(self) -> bool:
        """Whether something is read beside the strip itself: what its detector hears elsewhere, or what is drawn for it."""
        return self.drawn or bool(self.listens_to)

    def bare(self) -> "Tool":
        """Return it without what belongs to one mic of one song."""
        plain = {each.name: each.default for each in fields(self) if each.name in self.of_the_song}
        return self.replace(**plain) if plain else self

    def rings_s(self) -> float:
        """Return how long it goes on when nothing comes in any more; most hardly do."""
        return 0.0

    @classmethod
    def from_json(cls, data: Any, where: str = "") -> Self:
        """Build a tool from plain data by the kind that it names."""
        if cls is not Tool:
            return super(Tool, cls).from_json(data, where)
        named = data.get("kind") if isinstance(data, dict) else None
        if named not in KINDS:
            place = f"{where}.kind".lstrip(".")
            raise SettingsError(f"{place}: unknown tool {named!r}; known are {', '.join(KINDS)}.")
        return settings_of(named).from_json(data, where)


def tool(name: str, **settings: Any) -> Tool:
    """Return a tool of a kind."""
    return settings_of(name)(**settings)


def free_id(wanted: str, taken: set[str]) -> str:
    """Return an id for something new among its kind: the wanted one, with a number where there is one already."""
    out, number_ = wanted, 2
    while out in taken:
        out, number_ = f"{wanted}-{number_}", number_ + 1
    return out
