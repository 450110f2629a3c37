"""Layers from the command line: made sounds and hits of the shelf under a drum, and what carries its low end."""

from collections.abc import Callable

import click

from arkund.core.replace.made import SORTS
from arkund.core.replace.notes import hz_of
from arkund.core.replace.ways import WAYS
from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.rig import make
from arkund.studio.cli.work import json_option

HITS = "hits"


def frequency_of(text: str) -> float:
    """Return a frequency in Hz of what was typed: a number, or a note."""
    try:
        return float(text)
    except ValueError:
        return hz_of(text)


@main.group()
def layer() -> None:
    """Lay made sounds and hits of the shelf under a drum, and see what they do to it. What one is set to is changed by
    `arkund set SESSION mics.LAYER.made.KEY=VALUE`, of hits `mics.LAYER.sampled.KEY=VALUE`.
    """


def _made(session: str, as_json: bool, change_of: Callable) -> None:
    """Make the change that ``change_of(layering, measure)`` returns as one Move."""
    from arkund.studio.services import layering
    from arkund.studio.services.measuring import Measure

    make(session, as_json, lambda mine: change_of(layering, Measure(mine)), "replace")


@layer.command("add")
@click.argument("session")
@click.argument("sort", type=click.Choice((*SORTS, HITS)))
@click.option("--piece", default="kick", show_default=True, help="The drum whose hits open it.")
@click.option(
    "--hz",
    help="The note of a made sound, in Hz or as E1; else an octave below the drum's fundamental, in the key that is set.",
)
@click.option(
    "--of", "captures", multiple=True, help="A hit of the shelf, for hits; may be repeated. Else all of the drum."
)
@click.option(
    "--inside", is_flag=True, help="Hits go through the tools of the drum's first mic, not a strip of their own."
)
@json_option
def layer_add(
    session: str, sort: str, piece: str, hz: str | None, captures: tuple[str, ...], inside: bool, as_json: bool
) -> None:
    """Lay a sine, a thump, or hits of the shelf under all hits of a drum; one Move."""
    if sort == HITS:
        _made(session, as_json, lambda layering, measure: layering.add_hits(measure, piece, list(captures), inside))
        return
    _made(
        session, as_json, lambda layering, measure: layering.add(measure, piece, sort, frequency_of(hz) if hz else None)
    )


@layer.command("remove")
@click.argument("session")
@click.argument("layer_id")
@json_option
def layer_remove(session: str, layer_id: str, as_json: bool) -> None:
    """Take a layer away; one Move."""
    _made(session, as_json, lambda layering, measure: layering.remove(measure, layer_id))


@layer.command("through")
@click.argument("session")
@click.argument("layer_id")
@click.argument("mic", default="")
@json_option
def layer_through(session: str, layer_id: str, mic: str, as_json: bool) -> None:
    """Let a layer go through the tools of a mic, or without one be a strip of its own; as loud as before, one Move."""
    _made(session, as_json, lambda layering, measure: layering.through(measure, layer_id, mic))


@layer.command("again")
@click.argument("session")
@click.argument("layer_id")
@json_option
def layer_again(session: str, layer_id: str, as_json: bool) -> None:
    """Open a layer by the hits as they are found now; one Move."""
    _made(session, as_json, lambda layering, measure: layering.again(measure, layer_id))


@layer.command("split")
@click.argument("session")
@click.option("--piece", default="kick", show_default=True, help="The drum that is shared out.")
@click.option(
    "--hz", type=float, help="Layers below, mics above, with a flat sum; without it both are heard in full again."
)
@json_option
def layer_split(session: str, piece: str, hz: float | None, as_json: bool) -> None:
    """Share a drum's range out between its mics and its layers; one Move."""
    _made(session, as_json, lambda layering, measure: layering.split(measure, piece, hz))


@layer.command("way")
@click.argument("session")
@click.argument("way", type=click.Choice(tuple(WAYS)))
@click.option("--piece", default="kick", show_default=True, help="The drum.")
@json_option
def layer_way(session: str, way: str, piece: str, as_json: bool) -> None:
    """Take another way to a drum's low end, or leave it again: a band that lifts at its hits, four-band shaping, a resonant high-pass, a path of its bottom."""
    _made(session, as_json, lambda layering, measure: layering.take_way(measure, piece, way))


@layer.command("list")
@click.argument("session")
@click.option("--piece", default="kick", show_default=True, help="The drum whose low end is told.")
@json_option
def layer_list(session: str, piece: str, as_json: bool) -> None:
    """Show the layers, and what carries a drum's low end with them and without."""
    from arkund.studio.services import layering
    from arkund.studio.services.measuring import Measure

    measure = Measure(session_of(session))
    rows = [
        {
            "layer": mic.id,
            "name": mic.name,
            "piece": mic.piece,
            "level_db": mic.level_db,
            "inverted": mic.line_up.inverted,
            "into": mic.into,
        }
        | {key: value for key, value in (mic.made or mic.sampled).to_json().items() if key != "strikes"}
        | {"strikes": len(mic.strikes)}
        for mic in layering.layers(measure)
    ]
    low = layering.told(measure, piece)
    lines = [f"{r['layer']:<14} {_sound(r)}, {r['strikes']} strikes" for r in rows]
    if low:
        lines += ["{}, {:g} to {:g} Hz at its hits:".format(piece, *low["main_hz"])]
        lines += [f"  {name:<14} {each['main_db']:6.1f} dB" for name, each in low["strips"].items()]
        lines += [f"  {'together':<14} {low['sum_main_db']:6.1f} dB, {low['gain_db']:+.1f} against {low['strongest']}"]
    emit({"layers": rows, "low_end": low}, as_json, lines or ["no layers"])


def _sound(row: dict) -> str:
    if "shots" in row:
        return f"{len(row['shots'])} hits of the shelf"
    return f"{row['sort']} at {row['frequency_hz']:.1f} Hz"
