"""Change a Plan by paths such as ``mics.kick-in.gate.threshold_db`` or ``bus.compressor.ratio``."""

import json
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Plan


def get(plan: Plan, path: str) -> Any:
    """Return the plain value at a path."""
    node: Any = plan.to_json()
    for step in path.split("."):
        node = node[_key(node, step, path)]
    return node


def put(plan: Plan, changes: dict[str, Any]) -> Plan:
    """Return a new Plan with the plain values at some paths replaced; all are checked together."""
    data = plan.to_json()
    for path, value in changes.items():
        node: Any = data
        *steps, last = path.split(".")
        for step in steps:
            node = node[_key(node, step, path)]
        node[_key(node, last, path)] = value
    return Plan.from_json(data)


def parse(value: str) -> Any:
    """Return a value typed on the command line: JSON where it is JSON, else the text itself."""
    try:
        return json.loads(value)
    except ValueError:
        return value


def _key(node: Any, step: str, path: str) -> Any:
    if isinstance(node, list):
        for index, item in enumerate(node):
            if isinstance(item, dict) and item.get("id") == step:
                return index
        if step.isdigit() and int(step) < len(node):
            return int(step)
        ids = [item["id"] for item in node if isinstance(item, dict) and "id" in item]
        raise SettingsError(f"{path}: no {step!r} here; there are {', '.join(ids) or f'{len(node)} entries'}.")
    if isinstance(node, dict) and step in node:
        return step
    known = ", ".join(sorted(node)) if isinstance(node, dict) else "none below"
    raise SettingsError(f"{path}: unknown key {step!r}; known are {known}.")
