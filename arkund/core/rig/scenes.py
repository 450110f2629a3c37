"""Scenes as they are set: mixing settings that hold in named sections or bars."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.rig.strips import STRIP_ID, once
from arkund.core.settings import Settings, number, text

MOST_SCENES, MOST_HELD, MOST_RANGES = 32, 400, 400
LAST_BAR = 100_000  # of any song
FADE_MS = 20.0
HOLDABLE = re.compile(
    r"(?:(?:mics|groups|paths)\.[^.]+|kit)\.(?:level_db|pan|mute|trim_db|sends\.[^.]+\.level_db|tools\.[^.]+\.(?!id$|kind$).+)"
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Held(Settings):
    """One setting that a scene holds. place : as Moves name it, ``groups.kick.level_db``; value : a number, yes or no, or a word."""

    place: str = text(longest=200)
    value: Any = None

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if not HOLDABLE.fullmatch(self.place):
            raise SettingsError(
                f"held: {self.place!r} cannot be held by a scene; levels, places, mutes, sends, trims and settings of tools can."
            )
        if not isinstance(self.value, (bool, int, float, str)):
            raise SettingsError(f"held: {self.place}: expected a number, a word, true or false; got {self.value!r}.")


@dataclass(frozen=True, slots=True, kw_only=True)
class Scene(Settings):
    """Settings that hold in some sections, by name, and in some bars, (first, the one after the last), both counted from 0."""

    id: str = text(longest=40, pattern=STRIP_ID)
    name: str = text(longest=40)
    sections: tuple[str, ...] = ()
    bars: tuple[tuple[int, int], ...] = ()
    fade_ms: float = number(FADE_MS, 1.0, 10_000.0, step=1, unit="ms", help="how long it takes to come and go")
    held: tuple[Held, ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if len(self.held) > MOST_HELD:
            raise SettingsError(f"scenes.{self.id}: holds at most {MOST_HELD} settings, got {len(self.held)}.")
        if len(self.bars) > MOST_RANGES or len(self.sections) > MOST_RANGES:
            raise SettingsError(
                f"scenes.{self.id}: names at most {MOST_RANGES} sections and {MOST_RANGES} ranges of bars."
            )
        once(f"scenes.{self.id}", [each.place for each in self.held])
        for first, after in self.bars:
            if not 0 <= first < after <= LAST_BAR:
                raise SettingsError(f"scenes.{self.id}: bars {first} to {after}: expected a first bar and a later one.")

    def spans(self, sections: Sequence) -> list[tuple[int, int | None]]:
        """Return where it holds, as (first bar, the one after the last), None for the song's end; a section that is gone is passed over.

        sections : anything with .name and .bar, in order
        """
        ends = [*(each.bar for each in sections), None][1:]
        named = [(each.bar, end) for each, end in zip(sections, ends, strict=True) if each.name in self.sections]
        return named + list(self.bars)
