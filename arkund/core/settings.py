"""Frozen settings whose range, step, unit and default are stated once, beside the field.

The same statement serves the check at the edge, the slider on the page, the command line and the text of
an error. A settings class is a frozen dataclass that derives from :class:`Settings`::

    @dataclass(frozen=True, slots=True, kw_only=True)
    class GateSettings(Settings):
        threshold_db: float = number(-40.0, -90.0, 0.0, step=0.5, unit="dB")
"""

import dataclasses
import functools
import json
import math
import re
import sys
import types
import typing
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import MISSING, dataclass, field, fields
from itertools import pairwise
from typing import Any, Self

from arkund.core.errors import CancelledError, SettingsError

SHOWN = 80  # characters of a value in an error


@dataclass(frozen=True, slots=True)
class Range:
    """What a number may be: inclusive bounds, the step of a slider, and the unit that is shown."""

    low: float
    high: float
    step: float
    unit: str
    help: str


def number(default: Any, low: float, high: float, *, step: float = 0.1, unit: str = "", help: str = ""):  # noqa: A002
    """Declare a number (float or int by the annotation) with its inclusive range, step and unit."""
    return field(default=default, metadata={"range": Range(low, high, step, unit, help)})


def choice(default: str, options: tuple[str, ...]):
    """Declare a text that must be one of the options."""
    return field(default=default, metadata={"options": options})


def text(default: Any = MISSING, *, longest: int = 200, pattern: str = ""):
    """Declare a free text of limited length; with a pattern (a regular expression) it must be of that form as a whole."""
    return field(default=default, metadata={"longest": longest, "pattern": pattern})


DEEPEST = 24  # lists and objects within each other; the deepest of our own has a third of it
MOST_STRIKES = 100_000  # of one drum in a song
LARGEST_FLOAT = sys.float_info.max
LARGEST_INT = 1 << 62  # what the database keeps


def read_json(data: bytes | str) -> Any:
    """Return the plain data of a JSON text. Not-a-number, infinities, numbers that nothing can store, halves of characters and what is nested too deeply
    raise ValueError like any other fault.
    """

    def refused(word: str):
        raise ValueError(f"{word} is not JSON")

    def real(word: str) -> float:
        return found if math.isfinite(found := float(word)) else refused(word[:40])

    def whole(word: str) -> int:
        return found if len(word) < 24 and abs(found := int(word)) <= LARGEST_INT else refused(word[:40])

    found = json.loads(data, parse_constant=refused, parse_float=real, parse_int=whole)
    level = _containers([found])
    for _ in range(DEEPEST):
        level = [inner for each in level for inner in _containers(each.values() if isinstance(each, dict) else each)]
    if level:
        raise ValueError(f"nested deeper than {DEEPEST}")
    if (b"\\ud" if isinstance(data, bytes) else "\\ud") in data.lower():
        json.dumps(found, ensure_ascii=False).encode()  # half a character cannot be encoded
    return found


def _containers(values: Iterable[Any]) -> list[Any]:
    return [each for each in values if isinstance(each, (dict, list))]


@functools.cache
def hints_of(cls: type) -> dict[str, Any]:
    """Return the resolved annotations of a settings class."""
    return typing.get_type_hints(cls)


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """Base of all settings: checks each field when made, converts to and from plain JSON data."""

    FORMER = frozenset()  # names of fields that stored data may still have and that mean nothing any more

    def __post_init__(self) -> None:
        hints = hints_of(type(self))
        for each in fields(self):
            _check(each, hints[each.name], getattr(self, each.name))

    def replace(self, **changes: Any) -> Self:
        """Return a copy with some fields changed, checked again."""
        return dataclasses.replace(self, **changes)

    def to_json(self) -> dict[str, Any]:
        """Return plain data (dicts, lists, numbers, texts) that :meth:`from_json` reads back."""
        return {each.name: plain(getattr(self, each.name)) for each in fields(self)}

    @classmethod
    def from_json(cls, data: Any, where: str = "") -> Self:
        """Build the settings from plain data; unknown keys and wrong types raise SettingsError."""
        if not isinstance(data, dict):
            raise SettingsError(f"{where or cls.__name__}: expected an object with named values, got {shown(data)}.")
        hints, known = hints_of(cls), {each.name for each in fields(cls)}
        data = {key: value for key, value in data.items() if key not in cls.FORMER}
        unknown = sorted(set(data) - known)
        if unknown:
            raise SettingsError(
                f"{where or cls.__name__}: unknown key {shown(unknown[0])}; known are {', '.join(sorted(known))}."
            )
        values = {key: typed(hints[key], value, f"{where}.{key}".lstrip(".")) for key, value in data.items()}
        try:
            return cls(**values)
        except TypeError as error:
            raise SettingsError(f"{where or cls.__name__}: a value is missing ({error}).") from error

    @classmethod
    def choices(cls) -> dict[str, tuple[Any, ...]]:
        """Return what each field of several options can be."""
        return {
            each.name: each.metadata["options"] for each in fields(cls) if len(each.metadata.get("options", ())) > 1
        }

    @classmethod
    def ranges(cls) -> dict[str, Range]:
        """Return the Range of each number field, for sliders and forms."""
        return {each.name: each.metadata["range"] for each in fields(cls) if "range" in each.metadata}


def shown(value: Any) -> str:
    """Return a value as an error tells it: no longer than is read."""
    text = repr(value[:SHOWN] if isinstance(value, (str, list, tuple)) else value)
    return text if len(text) <= SHOWN else f"{text[:SHOWN]}…"


def check_strikes(strikes: tuple[tuple[int, float], ...], most: int = MOST_STRIKES) -> None:
    """Raise SettingsError where strikes, (sample, level in dB), are too many or out of order."""
    if len(strikes) > most:
        raise SettingsError(f"strikes: at most {most:,}, got {len(strikes):,}.")
    if any(b[0] <= a[0] for a, b in pairwise(strikes)):
        raise SettingsError("strikes: must be in order of time, one at a place.")


def quick_hash(settings: Settings, rows: tuple) -> int:
    """Return a hash of settings that hold thousands of rows: of all else, and of how many rows there are, the first and the last. What is remembered by its
    settings is looked for dozens of times a rendering.
    """
    rest = tuple(v for v in (getattr(settings, each.name) for each in fields(settings)) if v is not rows)
    return hash((rest, len(rows), rows[:1], rows[-1:]))


def _check(each: dataclasses.Field, hint: Any, value: Any) -> None:
    """Check one value against what its field declares."""
    name = each.name
    allowed = _union(hint)
    if value is None:
        if type(None) not in allowed:
            raise SettingsError(f"{name}: a value is needed, got none.")
        return
    limits: Range | None = each.metadata.get("range")
    if limits is not None:
        if isinstance(value, bool) or not isinstance(value, (int, float)) or value != value:
            raise SettingsError(f"{name}: expected a number, got {shown(value)}.")
        if int in allowed and float not in allowed and not isinstance(value, int):
            raise SettingsError(f"{name}: expected a whole number, got {shown(value)}.")
        if not limits.low <= value <= limits.high:
            unit = f" {limits.unit}" if limits.unit else ""
            given = f"{value:g}" if abs(value) < LARGEST_INT else "a number that large"
            raise SettingsError(f"{name}: {given}{unit} is outside {limits.low:g} to {limits.high:g}{unit}.")
    if bool in allowed and not isinstance(value, bool):
        raise SettingsError(f"{name}: expected true or false, got {shown(value)}.")
    options = each.metadata.get("options")
    if options is not None and value not in options:
        raise SettingsError(f"{name}: expected one of {', '.join(options)}; got {shown(value)}.")
    longest = each.metadata.get("longest")
    if longest is not None and (not isinstance(value, str) or len(value) > longest):
        raise SettingsError(f"{name}: expected a text of at most {longest} characters, got {str(value)[:80]!r}.")
    pattern = each.metadata.get("pattern")
    if pattern and not re.fullmatch(pattern, value):
        raise SettingsError(f"{name}: {value[:80]!r} is not of the form {pattern}.")


@functools.cache
def _union(hint: Any) -> tuple[Any, ...]:
    """Return the members of a union annotation, or the annotation alone."""
    if isinstance(hint, types.UnionType) or typing.get_origin(hint) is typing.Union:
        return typing.get_args(hint)
    return (hint,)


def plain(value: Any) -> Any:
    """Return a value of a settings field as plain data."""
    if isinstance(value, Settings):
        return value.to_json()
    if isinstance(value, tuple):
        return [plain(item) for item in value]
    if isinstance(value, dict):
        return {key: plain(item) for key, item in value.items()}
    return value


_asked: ContextVar[Callable[[], bool] | None] = ContextVar("asked", default=None)


@contextmanager
def interruptible(cancelled: Callable[[], bool]) -> Iterator[None]:
    """Let settings that are built of plain data within ask whether to stop: thousands of them take a while. CancelledError is raised from there."""
    token = _asked.set(cancelled)
    try:
        yield
    finally:
        _asked.reset(token)


def go_on() -> None:
    """Raise CancelledError where whoever waits for what is built asked to stop."""
    asked = _asked.get()
    if asked is not None and asked():
        raise CancelledError("Cancelled; nothing was kept.")


def typed(hint: Any, value: Any, where: str) -> Any:
    """Return plain data converted to an annotated type; numbers and texts are checked by the field itself."""
    members = _union(hint)
    if value is None:
        if type(None) in members:
            return None
        raise SettingsError(f"{where}: a value is needed, got none.")
    hint = next(member for member in members if member is not type(None))
    if hint is Any:
        return value
    origin = typing.get_origin(hint)
    if isinstance(hint, type) and issubclass(hint, Settings):
        go_on()
        return hint.from_json(value, where)
    if origin is tuple:
        if not isinstance(value, (list, tuple)):
            raise SettingsError(f"{where}: expected a list, got {shown(value)}.")
        kinds = typing.get_args(hint)
        variadic = len(kinds) == 2 and kinds[1] is Ellipsis
        if not variadic and len(value) != len(kinds):
            raise SettingsError(f"{where}: expected {len(kinds)} values, got {len(value)}.")
        kind_of = (lambda i: kinds[0]) if variadic else (lambda i: kinds[i])
        return tuple(typed(kind_of(i), item, f"{where}.{i}") for i, item in enumerate(value))
    if origin is dict:
        if not isinstance(value, dict):
            raise SettingsError(f"{where}: expected an object, got {shown(value)}.")
        return {str(key): typed(typing.get_args(hint)[1], item, f"{where}.{key}") for key, item in value.items()}
    if hint is float:
        if isinstance(value, bool) or not isinstance(value, (int, float)):
            raise SettingsError(f"{where}: expected a number, got {shown(value)}.")
        if abs(value) > LARGEST_FLOAT:
            raise SettingsError(f"{where}: a number that large is outside every range.")
        return float(value)
    if isinstance(value, bool) != (hint is bool) or not isinstance(value, hint):
        raise SettingsError(f"{where}: expected {hint.__name__}, got {shown(value)}.")
    return value
