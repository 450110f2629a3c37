"""The rig from the command line: rows of tools, groups and paths; strips are named ``mic:ID`` (or the mic's id), ``group:ID``, ``path:ID`` and ``kit``."""

from collections.abc import Callable

import click

from arkund.core.blend.recipes import FEEDS, SHELLS
from arkund.core.rig import changes
from arkund.core.rig.strips import OFF_DB
from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.work import json_option


def make(session: str, as_json: bool, change_of: Callable, step: str = "blend") -> None:
    """Make the change that is told of a session as one Move of a step, and say so."""
    from arkund.studio.services import rigging

    mine = session_of(session)
    move = rigging.make(mine, change_of(mine), step, mine.version)  # rows are written as a whole
    data = {"move": move.number, "title": move.title, "before": move.before, "after": move.after}
    emit(data, as_json, [f"move {move.number}: {move.title}"])


@main.group()
def tool() -> None:
    """Show and change a strip's row of tools; settings are set by `arkund set SESSION mics.ID.tools.TOOL.FIELD=VALUE`."""


@tool.command("list")
@click.argument("session")
@click.argument("strip")
@json_option
def tool_list(session: str, strip: str, as_json: bool) -> None:
    """Show the tools of a strip in order, with what each does at hits and between them."""
    from arkund.core.rig import places
    from arkund.core.rig.measure import Effect
    from arkund.studio.services.measuring import Measure

    measure = Measure(session_of(session))
    mine = places.named(measure.plan, strip)
    effects = measure.effects(mine.name)
    rows = []
    for each in mine.strip.tools:
        found = effects.get(each.id, Effect(None, None))
        rows.append(each.to_json() | {"hits_db": found.hits_db, "between_db": found.between_db})
    lines = [
        f"{r['id']:<14} {'on ' if r['on'] else 'off'}"
        + ("" if r["hits_db"] is None else f"  hits {r['hits_db']:+.1f} dB")
        + ("" if r["between_db"] is None else f", between {r['between_db']:+.1f} dB")
        for r in rows
    ]
    emit({"strip": mine.name, "tools": rows}, as_json, lines or ["no tools"])


@tool.command("add")
@click.argument("session")
@click.argument("strip")
@click.argument("kind")
@click.option("--at", type=int, help="Place in the row, from 0; where its kind usually stands without it.")
@json_option
def tool_add(session: str, strip: str, kind: str, at: int | None, as_json: bool) -> None:
    """Add a tool to a strip, off; one Move."""
    from arkund.studio.services import rigging

    make(session, as_json, lambda s: rigging.add_tool(s, strip, kind, at))


@tool.command("move", context_settings={"ignore_unknown_options": True})
@click.argument("session")
@click.argument("strip")
@click.argument("tool_id")
@click.argument("by", type=int)
@json_option
def tool_move(session: str, strip: str, tool_id: str, by: int, as_json: bool) -> None:
    """Move a tool so many places later in its row (-1 is one earlier); one Move."""
    make(session, as_json, lambda s: changes.move_tool(s.plan, strip, tool_id, by))


@tool.command("remove")
@click.argument("session")
@click.argument("strip")
@click.argument("tool_id")
@json_option
def tool_remove(session: str, strip: str, tool_id: str, as_json: bool) -> None:
    """Take a tool out of its row; one Move."""
    make(session, as_json, lambda s: changes.remove_tool(s.plan, strip, tool_id))


@tool.command("copy")
@click.argument("session")
@click.argument("strip")
@click.argument("tool_id")
@click.argument("others", nargs=-1, required=True)
@json_option
def tool_copy(session: str, strip: str, tool_id: str, others: tuple[str, ...], as_json: bool) -> None:
    """Copy a tool's settings to other strips; one Move."""
    from arkund.studio.services import toning
    from arkund.studio.services.measuring import Measure

    make(session, as_json, lambda s: toning.copy_tool(Measure(s), strip, tool_id, list(others)))


@tool.command("key")
@click.argument("session")
@click.argument("strip")
@click.argument("tool_id")
@click.argument("of")
@json_option
def tool_key(session: str, strip: str, tool_id: str, of: str, as_json: bool) -> None:
    """Let a tool's detector listen to mic:ID, drum:PIECE, group:ID, hits:PIECE, or to "" itself; one Move."""
    from arkund.studio.services import rigging

    make(session, as_json, lambda s: rigging.set_key(s, strip, tool_id, of))


@main.group()
def path() -> None:
    """Show and change the parallel paths; what is sent to one is set by `arkund set`."""


@path.command("list")
@click.argument("session")
@json_option
def path_list(session: str, as_json: bool) -> None:
    """Show the paths and what is sent to each."""
    from arkund.core.rig import places

    plan = session_of(session).plan
    strips = [each for each in places.all_of(plan) if each.sort != places.KIT]
    rows = []
    for each in plan.paths:
        sends = {s.name: db for s in strips if (db := s.strip.send_db(each.id)) > OFF_DB}
        rows.append(each.to_json() | {"fed_by": sends})
    lines = [
        f"{r['id']:<12} {r['level_db']:+.1f} dB{' muted' if r['mute'] else ''}: "
        + (", ".join(f"{name} {db:+.1f} dB" for name, db in r["fed_by"].items()) or "nothing is sent")
        for r in rows
    ]
    emit({"paths": rows}, as_json, lines or ["no paths"])


@path.command("add")
@click.argument("session")
@click.argument("recipe", default="")
@click.option("--name", default="", help="Its name; that of the recipe without it.")
@click.option(
    "--feed", type=click.Choice(FEEDS), default=SHELLS, show_default=True, help="What PUNCH and SUSTAIN are sent."
)
@json_option
def path_add(session: str, recipe: str, name: str, feed: str, as_json: bool) -> None:
    """Add a path by a recipe (punch, sustain, weight, crush, glow, plate) with its sends, made up to its input's peak, or an empty one; one Move."""
    from arkund.studio.services import blending
    from arkund.studio.services.measuring import Measure

    make(session, as_json, lambda s: blending.add_path(Measure(s), recipe, name, feed))


@path.command("raise")
@click.argument("session")
@click.argument("path_id")
@json_option
def path_raise(session: str, path_id: str, as_json: bool) -> None:
    """Show what a path does to the kit at a few levels: attack, density, and how far hits still stand out."""
    from arkund.studio.services import blending
    from arkund.studio.services.measuring import Measure

    found = blending.raised(Measure(session_of(session)), path_id)
    emit(found, as_json, [f"{each['words']:<12} {each['told']}" for each in found["versions"]])


@path.command("remove")
@click.argument("session")
@click.argument("path_id")
@json_option
def path_remove(session: str, path_id: str, as_json: bool) -> None:
    """Take a path away, with all that is sent to it; one Move."""
    make(session, as_json, lambda s: changes.remove_path(s.plan, path_id))


@main.group("group")
def group_() -> None:
    """Show and change the groups that mics go into."""


@group_.command("list")
@click.argument("session")
@json_option
def group_list(session: str, as_json: bool) -> None:
    """Show the groups with their members; mics of no group go straight to the kit."""
    from arkund.core.rig.wiring import group_id

    plan = session_of(session).plan
    members: dict[str, list[str]] = {each.id: [] for each in plan.groups} | {"": []}
    for mic in plan.mics:
        members[group_id(mic, plan.groups)].append(mic.id)
    rows = [each.to_json() | {"members": members[each.id]} for each in plan.groups]
    lines = [f"{r['id']:<12} {', '.join(r['members']) or 'nobody'}" for r in rows]
    lines += [f"{'the kit':<12} {', '.join(members[''])}"] if members[""] else []
    emit({"groups": rows, "of_no_group": members[""]}, as_json, lines)


@group_.command("add")
@click.argument("session")
@click.argument("name")
@click.argument("members", nargs=-1)
@json_option
def group_add(session: str, name: str, members: tuple[str, ...], as_json: bool) -> None:
    """Make a group of some mics; one Move."""
    make(session, as_json, lambda s: changes.add_group(s.plan, name, members))


@group_.command("remove")
@click.argument("session")
@click.argument("group_id")
@json_option
def group_remove(session: str, group_id: str, as_json: bool) -> None:
    """Take a group away; its members go where they were without it; one Move."""
    make(session, as_json, lambda s: changes.remove_group(s.plan, group_id))


@main.command("rename")
@click.argument("session")
@click.argument("strip")
@click.argument("name")
@json_option
def rename(session: str, strip: str, name: str, as_json: bool) -> None:
    """Give a mic, group or path another name; one Move."""
    make(session, as_json, lambda s: changes.rename(s.plan, strip, name))
