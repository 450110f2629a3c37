"""Changes of a rig: tools added, moved, removed and copied, keys set, groups, paths and scenes made and taken away."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Plan
from arkund.core.plan.scenes import held_in, scene_of
from arkund.core.rig import places, rows, usual
from arkund.core.rig.scenes import FADE_MS, Scene
from arkund.core.rig.strips import Group, Path
from arkund.core.rig.wiring import group_id
from arkund.core.settings import plain
from arkund.core.tools.tool import free_id, settings_of


@dataclass(frozen=True, slots=True)
class Change:
    """What is to be changed in a Plan: new values by place, and what it is called."""

    title: str
    values: dict[str, Any]


def add_tool(
    plan: Plan, strip: str, kind: str, at: int | None = None, settings: Mapping[str, Any] | None = None
) -> Change:
    """Add a tool of a kind to a strip's row, off, at a place or where it usually stands; an equaliser is on, because without filters it does nothing.

    settings : where it begins with others than the usual ones
    """
    mine = places.named(plan, strip)
    row = rows.added(mine.strip.tools, settings_of(kind)(on=kind == "tone", **(settings or {})), at)
    return _row(mine, row, f"{mine.words}: {kind} added")


def move_tool(plan: Plan, strip: str, tool_id: str, by: int) -> Change:
    """Move a tool so many places later in its row, earlier where negative."""
    mine = places.named(plan, strip)
    words = "later" if by > 0 else "earlier"
    return _row(mine, rows.moved(mine.strip.tools, tool_id, by), f"{mine.words}: {tool_id} {words}")


def remove_tool(plan: Plan, strip: str, tool_id: str) -> Change:
    """Take a tool out of its row."""
    mine = places.named(plan, strip)
    return _row(mine, rows.removed(mine.strip.tools, tool_id), f"{mine.words}: {tool_id} removed")


def copy_tool(plan: Plan, strip: str, tool_id: str, others: Sequence[str]) -> Change:
    """Copy a tool's settings to other strips: into their first tool of the kind, or as a new one."""
    mine, to = places.named(plan, strip), [places.named(plan, name) for name in others]
    tool = mine.strip.tools[rows.place_of(mine.strip.tools, tool_id)]
    values: dict[str, Any] = {}
    for other in to:
        values |= rows.put(other.place, other.strip, tool if _same_drum(mine.strip, other.strip) else tool.bare())
    return Change(f"{mine.words}: {tool_id} copied to {', '.join(other.words for other in to)}", values)


def _same_drum(one, other) -> bool:
    """Say whether two strips are mics of the same drum, at which the same places mean the same."""
    return getattr(one, "piece", "") == getattr(other, "piece", "") != ""


def set_key(plan: Plan, strip: str, tool_id: str, of: str) -> Change:
    """Let a tool's detector listen to something: see ``Key.of``. Raises SettingsError for a tool that hears its own strip alone."""
    mine = places.named(plan, strip)
    tool = mine.strip.tools[rows.place_of(mine.strip.tools, tool_id)]
    if tool.listens_to is None:
        raise SettingsError(f"key: a {tool.kind} listens to nothing but its own strip.")
    return Change(f"{mine.words}: {tool_id} listens to {of or 'itself'}", {f"{mine.place}.tools.{tool_id}.key.of": of})


def _row(mine: places.Named, row: rows.Row, title: str) -> Change:
    return Change(title, {f"{mine.place}.tools": [tool.to_json() for tool in row]})


def add_path(plan: Plan, recipe: str = "", name: str = "") -> Change:
    """Add a path, by a recipe or empty. Raises SettingsError for a recipe that is not known."""
    if recipe and recipe not in usual.PATHS:
        raise SettingsError(f"recipe: unknown {recipe!r}; known are {', '.join(usual.PATHS)}.")
    made = usual.PATHS[recipe]() if recipe else None
    name = _name(name or (made.name if made else "path"))
    key = free_id(made.id if made else _id(name), {path.id for path in plan.paths})
    path = made.replace(id=key, name=name) if made else Path(id=key, name=name)
    return Change(f"Path {name} added", {"paths": [each.to_json() for each in (*plan.paths, path)]})


def remove_path(plan: Plan, path_id: str) -> Change:
    """Take a path away, and all that is sent to it."""
    mine = places.named(plan, f"path:{path_id}")
    values: dict[str, Any] = {}
    for each in places.all_of(plan):
        if each.sort in ("mic", "group") and any(send.id == path_id for send in each.strip.sends):
            values[f"{each.place}.sends"] = [send.to_json() for send in each.strip.sends if send.id != path_id]
    others = [path for path in plan.paths if path.id != path_id]
    values["paths"] = [
        path.replace(sends=tuple(send for send in path.sends if send.id != path_id)).to_json() for path in others
    ]
    return Change(f"Path {mine.words} removed", values)


def add_group(plan: Plan, name: str, members: Sequence[str] = ()) -> Change:
    """Make a group of some mics, by their ids."""
    name = _name(name)
    group = Group(id=free_id(_id(name), {each.id for each in plan.groups}), name=name)
    values: dict[str, Any] = {"groups": [each.to_json() for each in (*plan.groups, group)]}
    return Change(f"Group {name} made", values | {f"mics.{plan.mic(mic).id}.group": group.id for mic in members})


def remove_group(plan: Plan, group_key: str) -> Change:
    """Take a group away; its members go straight to the kit, or into the group that their piece and role belong to, where that is another one."""
    mine = places.named(plan, f"group:{group_key}")
    values: dict[str, Any] = {"groups": [each.to_json() for each in plan.groups if each.id != group_key]}
    values |= {f"mics.{mic.id}.group": "" for mic in plan.mics if mic.group == group_key}
    members = sum(group_id(mic, plan.groups) == group_key for mic in plan.mics)
    return Change(f"Group {mine.words} removed; its {members} mics are where they were without it", values)


def add_scene(
    plan: Plan, name: str, sections: Sequence[str] = (), bars: Sequence[tuple[int, int]] = (), fade_ms: float = FADE_MS
) -> Change:
    """Make a scene for some sections, by name, and bars, (first, the one after the last); it holds nothing yet."""
    name = _name(name)
    key = free_id(_id(name), {each.id for each in plan.scenes})
    scene = Scene(id=key, name=name, sections=_sections(plan, sections), bars=tuple(bars), fade_ms=fade_ms)
    return Change(f"Scene {name} made", {"scenes": [each.to_json() for each in (*plan.scenes, scene)]})


def set_scene(plan: Plan, scene_id: str, **values: Any) -> Change:
    """Change where a scene holds (sections, bars), its fade_ms or its name."""
    mine = scene_of(plan, scene_id)
    if "sections" in values:
        _sections(plan, [name for name in values["sections"] if name not in mine.sections])
    words = ", ".join("other " + name.replace("fade_ms", "fade") for name in values)
    return Change(
        f"Scene {mine.name}: {words}", {f"scenes.{mine.id}.{name}": plain(value) for name, value in values.items()}
    )


def remove_scene(plan: Plan, scene_id: str) -> Change:
    """Take a scene away; its bars are as the rest of the song."""
    mine = scene_of(plan, scene_id)
    return Change(
        f"Scene {mine.name} removed", {"scenes": [each.to_json() for each in plan.scenes if each.id != mine.id]}
    )


def settings(plan: Plan, values: dict[str, Any], title: str, scene_id: str = "") -> Change:
    """Change settings, by place; where a scene is named, it holds them, and lets those go that are as in the rest of the song."""
    if not scene_id:
        return Change(title, values)
    mine = scene_of(plan, scene_id)
    held = held_in(plan, mine, values).held
    return Change(f"{mine.name}: {title}", {f"scenes.{mine.id}.held": [each.to_json() for each in held]})


def in_section(plan: Plan, section: str, values: dict[str, Any], title: str) -> Change:
    """Change settings, by place, in the sections of a name: in a scene that holds there already and holds such a setting, else in that of this section alone,
    which is made where there is none.

    Raises SettingsError where there is no such section, and for what no scene can hold.
    """
    _sections(plan, [section])
    holding = [scene for scene in plan.scenes if section in scene.sections]
    own = next((scene for scene in plan.scenes if scene.sections == (section,) and not scene.bars), None)
    scenes = {scene.id: scene for scene in plan.scenes}
    shared = set()
    for place, value in values.items():
        mine = next((s for s in holding if any(each.place == place for each in scenes[s.id].held)), own)
        if mine is None:
            key = free_id(_id(section), set(scenes))
            mine = own = scenes[key] = Scene(id=key, name=section[:40], sections=(section,))
        scenes[mine.id] = held_in(plan, scenes[mine.id], {place: value})
        shared |= {other for other in mine.sections if other != section}
    also = f" (also in {', '.join(sorted(shared))})" if shared else ""
    return Change(f"{section}: {title}{also}", {"scenes": [scene.to_json() for scene in scenes.values()]})


def _sections(plan: Plan, names: Sequence[str]) -> tuple[str, ...]:
    known = [section.name for section in plan.sections]
    for name in names:
        if name not in known:
            raise SettingsError(f"sections: no section {name!r}; there are {', '.join(known) or 'none'}.")
    return tuple(names)


def rename(plan: Plan, strip: str, name: str) -> Change:
    """Give a mic, group or path another name."""
    mine = places.named(plan, strip)
    if mine.sort == places.KIT:
        raise SettingsError("name: the kit has no other name.")
    return Change(f"{mine.words} is called {_name(name)}", {f"{mine.place}.name": _name(name)})


def _name(name: str) -> str:
    name = "".join(c for c in name if c.isprintable()).strip()[:40]
    if not name:
        raise SettingsError("name: one is needed.")
    return name


def _id(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-")[:30] or "strip"
