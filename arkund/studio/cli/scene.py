"""Scenes from the command line: where they hold, and what; settings are put into one by ``arkund set --scene``."""

import re

import click

from arkund.core.errors import SettingsError
from arkund.core.rig import changes
from arkund.core.rig.scenes import FADE_MS
from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.rig import make
from arkund.studio.cli.work import json_option


def _bars(session, texts: tuple[str, ...]) -> tuple[tuple[int, int], ...]:
    """Return bars of texts such as 9-16, counted from 1, as (first, the one after the last), counted from 0."""
    from arkund.studio.services import rigging

    out = []
    for each in texts:
        match = re.fullmatch(r"(\d+)(?:-(\d+))?", each)
        if not match:
            raise SettingsError(f"--bars: expected something like 5 or 9-16, counted from 1, got {each!r}.")
        out.append((int(match[1]) - 1, int(match[2] or match[1])))
    rigging.check_bars(session, out)
    return tuple(out)


@main.group()
def scene() -> None:
    """Show and change scenes: mixing settings that hold in some sections or bars. `arkund set --scene ID` puts settings into one."""


@scene.command("list")
@click.argument("session")
@json_option
def scene_list(session: str, as_json: bool) -> None:
    """Show the scenes, where they hold and what."""
    plan = session_of(session).plan
    rows = [each.to_json() | {"holds_in": each.spans(plan.sections)} for each in plan.scenes]
    lines = []
    for row in rows:
        where = ", ".join(f"bars {first + 1} to {after or 'the end'}" for first, after in row["holds_in"]) or "nowhere"
        lines += [f"{row['id']:<12} {row['name']}: {where}, {row['fade_ms']:.0f} ms"]
        lines += [f"  {held['place']} = {held['value']}" for held in row["held"]]
    emit({"scenes": rows}, as_json, lines or ["no scenes"])


@scene.command("add")
@click.argument("session")
@click.argument("name")
@click.option("--section", "sections", multiple=True, help="A named section in which it holds; may be given again.")
@click.option("--bars", "bars", multiple=True, help="Such as 9-16, counted from 1; may be given again.")
@click.option("--fade", default=FADE_MS, show_default=True, help="ms in which it comes and goes.")
@json_option
def scene_add(
    session: str, name: str, sections: tuple[str, ...], bars: tuple[str, ...], fade: float, as_json: bool
) -> None:
    """Make a scene; one Move."""
    make(session, as_json, lambda s: changes.add_scene(s.plan, name, sections, _bars(s, bars), fade))


@scene.command("move")
@click.argument("session")
@click.argument("scene_id")
@click.option("--section", "sections", multiple=True, help="A named section in which it holds; may be given again.")
@click.option("--bars", "bars", multiple=True, help="Such as 9-16, counted from 1; may be given again.")
@json_option
def scene_move(session: str, scene_id: str, sections: tuple[str, ...], bars: tuple[str, ...], as_json: bool) -> None:
    """Let a scene hold in other sections and bars than before; one Move."""
    make(session, as_json, lambda s: changes.set_scene(s.plan, scene_id, sections=sections, bars=_bars(s, bars)))


@scene.command("remove")
@click.argument("session")
@click.argument("scene_id")
@json_option
def scene_remove(session: str, scene_id: str, as_json: bool) -> None:
    """Take a scene away; its bars are as the rest of the song; one Move."""
    make(session, as_json, lambda s: changes.remove_scene(s.plan, scene_id))
