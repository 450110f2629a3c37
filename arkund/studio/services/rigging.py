"""Changes of the rig as Moves: tools added, moved, removed and copied, groups and paths made and taken away, keys set."""

import re
from collections.abc import Sequence
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Struck
from arkund.core.rig import places, rows, usual
from arkund.core.rig.strips import Group, Path
from arkund.core.rig.wiring import group_id
from arkund.core.tools.tool import settings_of
from arkund.studio.models import Move, Session
from arkund.studio.services import moves
from arkund.studio.services.measuring import Measure

STEP = "blend"


def add_tool(session: Session, strip: str, kind: str, at: int | None = None, version: int | None = None) -> Move:
    """Add a tool of a kind to a strip's row, off, at a place or where it usually stands."""
    mine = places.named(session.plan, strip)
    row = rows.added(mine.strip.tools, settings_of(kind)(on=kind == "tone"), at)
    return _row(session, mine, row, f"{mine.words}: {kind} added", version)


def move_tool(session: Session, strip: str, tool_id: str, by: int, version: int | None = None) -> Move:
    """Move a tool so many places later in its row, earlier where negative."""
    mine = places.named(session.plan, strip)
    row = rows.moved(mine.strip.tools, tool_id, by)
    words = "later" if by > 0 else "earlier"
    return _row(session, mine, row, f"{mine.words}: {tool_id} {words}", version)


def remove_tool(session: Session, strip: str, tool_id: str, version: int | None = None) -> Move:
    """Take a tool out of its row."""
    mine = places.named(session.plan, strip)
    return _row(session, mine, rows.removed(mine.strip.tools, tool_id), f"{mine.words}: {tool_id} removed", version)


def copy_tool(session: Session, strip: str, tool_id: str, others: Sequence[str], version: int | None = None) -> Move:
    """Copy a tool's settings to other strips: into their first tool of the kind, or as a new one."""
    mine = places.named(session.plan, strip)
    tool = mine.strip.tools[rows.place_of(mine.strip.tools, tool_id)]
    changes: dict[str, Any] = {}
    for name in others:
        other = places.named(session.plan, name)
        changes |= rows.put(other.place, other.strip, tool)
    to = ", ".join(places.named(session.plan, name).words for name in others)
    return moves.apply(session.pk, changes, step=STEP, title=f"{mine.words}: {tool_id} copied to {to}", version=version)


def _row(session: Session, mine: places.Named, row: rows.Row, title: str, version: int | None) -> Move:
    changes = {f"{mine.place}.tools": [tool.to_json() for tool in row]}
    return moves.apply(session.pk, changes, step=STEP, title=title, version=version)


def add_path(session: Session, recipe: str = "", name: str = "", version: int | None = None) -> Move:
    """Add a path, by a recipe or empty. Raises SettingsError for a recipe that is not known."""
    if recipe and recipe not in usual.PATHS:
        raise SettingsError(f"recipe: unknown {recipe!r}; known are {', '.join(usual.PATHS)}.")
    plan, made = session.plan, usual.PATHS[recipe]() if recipe else None
    name = _name(name or (made.name if made else "path"))
    key = _free(made.id if made else _id(name), [path.id for path in plan.paths])
    path = made.replace(id=key, name=name) if made else Path(id=key, name=name)
    changes = {"paths": [each.to_json() for each in (*plan.paths, path)]}
    return moves.apply(session.pk, changes, step=STEP, title=f"Path {name} added", version=version)


def remove_path(session: Session, path_id: str, version: int | None = None) -> Move:
    """Take a path away, and all that is sent to it."""
    plan, mine = session.plan, places.named(session.plan, f"path:{path_id}")
    changes: dict[str, Any] = {}
    for each in places.all_of(plan):
        if each.sort in ("mic", "group") and any(send.id == path_id for send in each.strip.sends):
            changes[f"{each.place}.sends"] = [send.to_json() for send in each.strip.sends if send.id != path_id]
    others = [path for path in plan.paths if path.id != path_id]
    changes["paths"] = [
        path.replace(sends=tuple(send for send in path.sends if send.id != path_id)).to_json() for path in others
    ]
    return moves.apply(session.pk, changes, step=STEP, title=f"Path {mine.words} removed", version=version)


def add_group(session: Session, name: str, members: Sequence[str] = (), version: int | None = None) -> Move:
    """Make a group of some mics, by their ids."""
    plan, name = session.plan, _name(name)
    group = Group(id=_free(_id(name), [each.id for each in plan.groups]), name=name)
    changes: dict[str, Any] = {"groups": [each.to_json() for each in (*plan.groups, group)]}
    changes |= {f"mics.{plan.mic(mic).id}.group": group.id for mic in members}
    return moves.apply(session.pk, changes, step=STEP, title=f"Group {name} made", version=version)


def remove_group(session: Session, group_key: str, version: int | None = None) -> Move:
    """Take a group away; its members go straight to the kit, or into the group that their piece and role belong to, where that is another one."""
    plan, mine = session.plan, places.named(session.plan, f"group:{group_key}")
    changes: dict[str, Any] = {"groups": [each.to_json() for each in plan.groups if each.id != group_key]}
    changes |= {f"mics.{mic.id}.group": "" for mic in plan.mics if mic.group == group_key}
    members = sum(group_id(mic, plan.groups) == group_key for mic in plan.mics)
    title = f"Group {mine.words} removed; its {members} mics are where they were without it"
    return moves.apply(session.pk, changes, step=STEP, title=title, version=version)


def rename(session: Session, strip: str, name: str, version: int | None = None) -> Move:
    """Give a mic, group or path another name."""
    mine = places.named(session.plan, strip)
    if mine.sort == places.KIT:
        raise SettingsError("name: the kit has no other name.")
    changes = {f"{mine.place}.name": _name(name)}
    return moves.apply(session.pk, changes, step=STEP, title=f"{mine.words} is called {_name(name)}", version=version)


def put_into(session: Session, mic_id: str, group_key: str, version: int | None = None) -> Move:
    """Put a mic into a group, by its id; "" lets it go where its piece and role belong."""
    mic = session.plan.mic(mic_id)
    words = places.named(session.plan, f"group:{group_key}").words if group_key else "the group of its kind"
    changes = {f"mics.{mic_id}.group": group_key}
    return moves.apply(session.pk, changes, step=STEP, title=f"{mic.name} into {words}", version=version)


def set_key(session: Session, strip: str, tool_id: str, of: str, version: int | None = None) -> Move:
    """Let a tool's detector listen to something; the strikes of a piece are frozen as they are found now."""
    mine = places.named(session.plan, strip)
    tool = mine.strip.tools[rows.place_of(mine.strip.tools, tool_id)]
    if not hasattr(tool, "key"):
        raise SettingsError(f"key: a {tool.kind} listens to nothing but its own strip.")
    changes: dict[str, Any] = {f"{mine.place}.tools.{tool_id}.key.of": of}
    if of.startswith("hits:"):
        changes["struck"] = [each.to_json() for each in struck_with(Measure(session), of[5:])]
    title = f"{mine.words}: {tool_id} listens to {of or 'itself'}"
    return moves.apply(session.pk, changes, step=STEP, title=title, version=version)


def struck_with(measure: Measure, piece: str) -> tuple[Struck, ...]:
    """Return a Plan's frozen strikes with those of a piece as they are found now. Raises SettingsError where none are."""
    found = sorted(measure.hits.get(piece, []), key=lambda hit: hit.time_s)
    if not found:
        raise SettingsError(f"key: no hits of {piece!r} were found.")
    strikes = tuple((round(hit.time_s * measure.rate), round(float(hit.level_db), 2)) for hit in found)
    others = tuple(each for each in measure.plan.struck if each.piece != piece)
    return (*others, Struck(piece=piece, strikes=strikes))


def _name(name: str) -> str:
    name = "".join(c for c in name if c.isprintable()).strip()[:40]
    if not name:
        raise SettingsError("name: one is needed.")
    return name


def _id(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:30] or "strip"


def _free(wanted: str, taken: Sequence[str]) -> str:
    number, out = 2, wanted
    while out in taken:
        out, number = f"{wanted}-{number}", number + 1
    return out
