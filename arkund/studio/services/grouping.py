"""Notes on groups: the compressor that holds each together, solved for by measurement, where it has none yet."""

import dataclasses
import functools

from arkund.core.blend.groups import FIRST_ROWS, propose
from arkund.core.errors import SettingsError
from arkund.core.findings import Finding
from arkund.core.plan.plan import Group
from arkund.core.punch.solve import Solved
from arkund.core.rig.hearing import audible
from arkund.core.rig.wiring import group_id
from arkund.studio.services.measuring import Measure
from arkund.studio.services.solving import solve


def starts(measure: Measure) -> list[Finding]:
    """Return a note for each group that is heard, has no compressor on, and for which one can be solved."""
    plan = measure.plan
    heard = {group_id(mic, plan.groups) for mic in audible(plan)}
    groups = [group for group in plan.groups if group.id in heard and _wants(measure, group)]
    asked = [(_depends(measure, group), functools.partial(_solved, measure, group)) for group in groups]
    found = zip(groups, measure.kept_each("group start", asked), strict=True)
    notes = (propose(group, Solved(**data)) for group, data in found if data)
    return [note for note in notes if note is not None]


def _wants(measure: Measure, group: Group) -> bool:
    """Say whether a group has a first row, no compressor on, and strokes by which one can be judged."""
    first, mine = FIRST_ROWS.get(group.id), group.first("compressor")
    if first is None or (mine is not None and mine.on):
        return False
    return not first.piece or bool(measure.heard_hits.get(first.piece))


def _solved(measure: Measure, group: Group) -> dict:
    first = FIRST_ROWS[group.id]
    try:
        solved = solve(measure, f"group:{group.id}", first.wanted, piece=first.piece, first=(first.compressor,))
    except SettingsError:  # nothing is played on it
        return {}
    return dataclasses.asdict(solved)


def _depends(measure: Measure, group: Group) -> list:
    """Return what comes into a group and goes through its tools, so that other levels measure nothing anew; with keys, what these hear as well."""
    plan = measure.plan
    mine = [mic for mic in audible(plan) if group_id(mic, plan.groups) == group.id]
    alone = [
        [group.id, [tool.to_json() for tool in group.tools]],
        [[mic.to_json(), measure.source_depends(mic)] for mic in mine],
    ]
    keyed = any(tool.keyed for strip in (group, *mine) for tool in strip.tools)
    return [alone, plan.to_json()] if keyed else alone
