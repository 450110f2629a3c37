"""Change a Plan by paths such as ``mics.kick-in.gate.threshold_db`` or ``bus.compressor.ratio``."""

import typing
from dataclasses import dataclass
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Plan
from arkund.core.rig.strips import Strip
from arkund.core.settings import Settings, hints_of, plain, read_json, typed


def get(plan: Plan, path: str) -> Any:
    """Return the plain value at a path."""
    node: Any = plan
    for step in path.split("."):
        if isinstance(node, Settings):
            node = getattr(node, _key(dict.fromkeys(type(node).__dataclass_fields__), step, path))
        elif isinstance(node, tuple):
            node = node[_key(_ids(node), step, path)]
        else:
            _key(node, step, path)  # says that there is nothing below
    return plain(node)


def put(plan: Plan, changes: dict[str, Any]) -> Plan:
    """Return a new Plan with the plain values at some paths replaced. They are checked together; what is not touched stays the very same."""
    tree: dict[str, Any] = {}
    for path, value in changes.items():
        *steps, last = path.split(".")
        node = tree
        for step in steps:
            node = node.setdefault(step, {})
            if isinstance(node, _Value):
                raise SettingsError(f"{path}: a value above it is changed too; give one of them.")
        if last in node:
            raise SettingsError(f"{path}: a value below it is changed too; give one of them.")
        node[last] = _Value(value, path)
    return _changed(plan, Plan, tree)


def of_today(changes: dict[str, Any]) -> dict[str, Any]:
    """Return changes without those of fields that Plans once had: a Move of then is undone but for them."""
    return {path: value for path, value in changes.items() if path.rpartition(".")[2] not in Strip.FORMER}


@dataclass(frozen=True, slots=True)
class _Value:
    """The plain value that a path is to get."""

    plain: Any
    path: str


def _changed(old: Any, hint: Any, change: dict[str, Any] | _Value) -> Any:
    """Return a value of an annotated type with changes below it, or in its place."""
    if isinstance(change, _Value):
        return typed(hint, change.plain, change.path)
    path = _path(change)
    if isinstance(old, Settings):
        hints = hints_of(type(old))
        known = {name: name for name in hints if name in type(old).__dataclass_fields__}
        return old.replace(
            **{
                name: _changed(getattr(old, name), hints[name], mine)
                for name, mine in ((_key(known, step, path), mine) for step, mine in change.items())
            }
        )
    if isinstance(old, tuple):
        items, kinds = list(old), typing.get_args(hint)
        for step, mine in change.items():
            index = _key(_ids(old), step, path)
            items[index] = _changed(items[index], kinds[0 if kinds[-1] is Ellipsis else index], mine)
        return tuple(items)
    return _key(old, next(iter(change)), path)  # says what is known below


def _ids(items: tuple) -> list:
    """Return what entries are found by: their ids, or themselves."""
    return [{"id": item.id} if hasattr(item, "id") else item for item in items]


def _path(change: dict[str, Any] | _Value) -> str:
    """Return the first path in a tree of changes."""
    while not isinstance(change, _Value):
        change = next(iter(change.values()))
    return change.path


def parse(value: str) -> Any:
    """Return a value typed on the command line: JSON where it is JSON, else the text itself."""
    try:
        return read_json(value)
    except (ValueError, RecursionError):
        return value


def _key(node: Any, step: str, path: str) -> Any:
    if isinstance(node, list):
        for index, item in enumerate(node):
            if isinstance(item, dict) and item.get("id") == step:
                return index
        if step.isdecimal() and step.isascii() and int(step) < len(node):
            return int(step)
        ids = [item["id"] for item in node if isinstance(item, dict) and "id" in item]
        raise SettingsError(f"{path}: no {step!r} here; there are {', '.join(ids) or f'{len(node)} entries'}.")
    if isinstance(node, dict) and step in node:
        return step
    known = ", ".join(sorted(node)) if isinstance(node, dict) else "none below"
    raise SettingsError(f"{path}: unknown key {step!r}; known are {known}.")
