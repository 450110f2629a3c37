"""Long lists of a Plan before and after a change, kept as the part in which they differ.

A Move on one of five thousand regions would otherwise carry all of them twice. What is kept in place of a list is
``{"@part": [at, items, length]}``: the items that stand from place ``at`` on where the list before and the list after differ, and how long the whole list is.
"""

from collections.abc import Mapping
from itertools import takewhile
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.plan.plan import Plan

PART = "@part"
LEAST = 8  # items: of a shorter list all are kept, each for itself
NEARLY = 1e-6


def packed(before: Mapping[str, Any], after: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return plain values before and after a change, by path, with long lists kept as the parts in which they differ."""
    pairs = {path: _pair(before[path], after[path]) for path in after}
    return {path: old for path, (old, _) in pairs.items()}, {path: new for path, (_, new) in pairs.items()}


def _pair(old: Any, new: Any) -> tuple[Any, Any]:
    """Return two values with the long lists in both of them packed, however deep they lie."""
    if isinstance(old, dict) and isinstance(new, dict):
        both = {key: _pair(old[key], new[key]) for key in old.keys() & new.keys()}
        return tuple(
            {key: both[key][k] if key in both else row[key] for key in row} for k, row in enumerate((old, new))
        )
    if not (isinstance(old, list) and isinstance(new, list)):
        return old, new
    if max(len(old), len(new)) < LEAST:
        if len(old) != len(new):
            return old, new
        items = [_pair(*each) for each in zip(old, new, strict=True)]
        return [one for one, _ in items], [other for _, other in items]
    at = _alike(old, new)
    end = min(_alike(old[::-1], new[::-1]), min(len(old), len(new)) - at)
    if 2 * (at + end) < max(len(old), len(new)):
        return old, new
    return tuple({PART: [at, row[at : len(row) - end], len(row)]} for row in (old, new))


def _alike(old: list, new: list) -> int:
    """Return how many items at the beginning are the same."""
    return sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(old, new, strict=False)))


def is_part(value: Any) -> bool:
    """Say whether a value is a part in place of a list."""
    return isinstance(value, dict) and PART in value


def stands(now: Any, value: Any) -> bool:
    """Say whether a plain value stands as a Move, packed, left it; numbers within a millionth."""
    if is_part(value):
        at, items, length = value[PART]
        return isinstance(now, list) and len(now) == length and now[at : at + len(items)] == items
    if isinstance(value, dict) and isinstance(now, dict):
        return now.keys() == value.keys() and all(stands(now[key], each) for key, each in value.items())
    if isinstance(value, list) and isinstance(now, list) and len(value) == len(now) < LEAST:
        return all(stands(is_now, each) for is_now, each in zip(now, value, strict=True))
    both_numbers = isinstance(now, (int, float)) and isinstance(value, (int, float))
    return now == value or (both_numbers and abs(now - value) < NEARLY)


def still_stands(now: Any, before: Any, after: Any) -> bool:
    """Say whether what a Move, packed, changed of a value still stands; what it left as it was may have been changed since.

    A row of things with ids, such as tools, is looked at one by one: what was set of another tool of the row since changes nothing of this.
    """
    if before == after:
        return True
    if all(isinstance(each, dict) and not is_part(each) for each in (now, before, after)):
        return all(still_stands(now.get(key), before.get(key), after.get(key)) for key in before.keys() | after.keys())
    rows = [by_id(each) for each in (now, before, after)]
    if all(row is not None for row in rows):
        return still_stands(*rows)
    return stands(now, after)


def by_id(value: Any) -> dict[str, Any] | None:
    """Return the items of a list by their ids; None where they have none."""
    if not isinstance(value, list) or not all(isinstance(item, dict) and "id" in item for item in value):
        return None
    return {item["id"]: item for item in value}


def unpacked(plan: Plan, values: Mapping[str, Any]) -> dict[str, Any]:
    """Return whole values of a Move that is the next to be undone, or to be done again, on a Plan. What Plans no longer have is left out.

    Raises SettingsError where a part does not fit the Plan.
    """
    return {
        path: whole(change.get(plan, path), path, value) if isinstance(value, (dict, list)) else value
        for path, value in change.of_today(values).items()
    }


def whole(now: Any, path: str, value: Any) -> Any:
    """Return a packed value as a whole one, on what stands at its path now. Raises SettingsError where a part does not fit that."""
    if not is_part(value):
        if isinstance(value, dict) and isinstance(now, dict):
            return {key: whole(now.get(key), f"{path}.{key}", each) for key, each in value.items()}
        if isinstance(value, list) and isinstance(now, list) and len(value) == len(now) < LEAST:
            return [whole(is_now, f"{path}.{k}", each) for k, (is_now, each) in enumerate(zip(now, value, strict=True))]
        return value
    try:
        at, items, length = value[PART]
        end = length - at - len(items)
        if not isinstance(now, list) or not 0 <= at <= len(now) - end or end < 0:
            raise ValueError
    except (TypeError, ValueError) as error:
        raise SettingsError(f"{path}: the part that was kept of it does not fit what stands there.") from error
    return [*now[:at], *items, *now[len(now) - end :]]
