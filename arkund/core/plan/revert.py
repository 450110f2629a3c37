"""Take one change of a Plan back, whatever came after it, as long as nothing that it set was set otherwise since."""

from collections.abc import Iterator, Mapping
from typing import Any

from arkund.core.plan import change
from arkund.core.plan.difference import by_id, is_part, stands, whole
from arkund.core.plan.plan import Plan

GONE = object()  # what a key, or a row of tools, does not hold


class SetSinceError(Exception):
    """What a change set was set otherwise since. path : where"""

    def __init__(self, path: str) -> None:
        super().__init__(path)
        self.path = path


def reverted(plan: Plan, before: Mapping[str, Any], after: Mapping[str, Any]) -> dict[str, Any]:
    """Return the plain values, by path, that a Plan gets where one of the changes in it is taken back.

    before, after : the change, as :func:`arkund.core.plan.difference.packed` gives it. Rows of things with ids, such as tools, are looked at one by one:
    what was set of another tool of the row stays.

    Raises SetSinceError where something that it set was set otherwise since, SettingsError where what it set is gone.
    """
    then, out = change.of_today(after), {}
    for path, value in then.items():
        now = change.get(plan, path)
        back = _back(now, before.get(path), value, path)
        if back != now:
            out[path] = back
    return out


def set_paths(before: Any, after: Any, path: str) -> Iterator[str]:
    """Yield the paths, down to single settings, at which two plain values of one path differ; tools of a row are told by their ids."""
    if before == after:
        return
    rows = [_rows(each) for each in (before, after)]
    if any(row is None for row in rows):
        yield path
        return
    for key in dict.fromkeys((*rows[0], *rows[1])):
        yield from set_paths(rows[0].get(key), rows[1].get(key), f"{path}.{key}")


def _rows(value: Any) -> dict[str, Any] | None:
    """Return what a plain value holds by key or id; None where it is one setting."""
    if isinstance(value, dict) and not is_part(value):
        return value
    return by_id(value)


def _back(now: Any, before: Any, after: Any, path: str) -> Any:
    if before == after:
        return now
    if all(isinstance(each, dict) and not is_part(each) for each in (now, before, after)):
        return _row_back(now, before, after, path)
    rows = [by_id(each) for each in (now, before, after)]
    if all(row is not None for row in rows):
        back = _row_back(*rows, path)
        return [back[key] for key in _order_back(*map(list, rows), path) if key in back]
    if stands(now, before):
        return now
    if not stands(now, after):
        raise SetSinceError(path)
    return whole(now, path, before)


def _row_back(now: dict, before: dict, after: dict, path: str) -> dict:
    out = dict(now)
    for key in before.keys() | after.keys():
        here, was, then = f"{path}.{key}", before.get(key, GONE), after.get(key, GONE)
        if was == then:
            continue
        if was is GONE:  # the change put it there
            if not stands(now.get(key, GONE), then):
                raise SetSinceError(here)
            del out[key]
        elif then is GONE:  # the change took it away
            if key in now:
                raise SetSinceError(here)
            out[key] = was
        elif key not in now:
            raise SetSinceError(here)
        else:
            out[key] = _back(now[key], was, then, here)
    return out


def _order_back(now: list[str], before: list[str], after: list[str], path: str) -> list[str]:
    """Return the order of a row with a change of it taken back: what was put into it since stands behind what it stands behind now."""
    was, then = (
        [key for key in row if key in now and key in other] for row, other in ((before, after), (after, before))
    )
    if [key for key in now if key in then] != then:  # it was put into another order since
        if was != then:
            raise SetSinceError(path)
        return [*now, *(key for key in before if key not in now)]
    out = list(before)
    for at, key in enumerate(now):
        if key not in out and key not in after:
            out.insert(out.index(now[at - 1]) + 1 if at and now[at - 1] in out else 0, key)
    return out
