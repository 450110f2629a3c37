"""Cleaning from the command line: how each shell mic is cleaned and what it did; one mic another way, or the whole kit to a look."""

import click

from arkund.core.clean.by_band import BLEED, RING
from arkund.core.clean.settings import LOOKS, WAYS
from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.work import json_option


@main.command()
@click.argument("session")
@click.option("--mic", help="A mic that is cleaned in another way; with --way.")
@click.option(
    "--way", type=click.Choice(WAYS), help="gate: by a threshold; cut: by hits; leave: the bleed is part of the sound."
)
@click.option("--look", type=click.Choice(tuple(LOOKS)), help="How clean the whole kit is meant to be.")
@click.option(
    "--by-band",
    "by_band",
    type=click.Choice((RING, BLEED)),
    help="Its ring, or the loudest of its bleed, by frequency; again: as it was. With --mic.",
)
@click.option("--other", default="", help="With --by-band bleed: whose; else the loudest.")
@json_option
def clean(
    session: str, mic: str | None, way: str | None, look: str | None, by_band: str | None, other: str, as_json: bool
) -> None:
    """Show how the mics are cleaned and what it did; with --mic and --way or --by-band, or --look, change it first, as one Move."""
    from arkund.studio.services import cleaning, rigging
    from arkund.studio.services.measuring import Measure

    found = session_of(session)
    if (mic is None) != (way is None and by_band is None) or (way and by_band):
        raise click.UsageError("--mic and one of --way and --by-band belong together.")
    if mic and look:
        raise click.UsageError("One mic's way, or the look of the whole kit: not both at once.")
    if mic or look:
        measure = Measure(found)
        if by_band:
            change = cleaning.by_band(measure, mic, by_band, other)
        elif way:
            change = cleaning.set_way(measure, mic, way)
        else:
            change = cleaning.set_look(measure, look)
        rigging.make(found, change, "clean", found.version)
        found.refresh_from_db()
    measure = Measure(found)
    rows = cleaning.reports(measure)
    lines = [f"look: {measure.plan.cleaning.look}"]
    for row in rows:
        lines.append(f"{row['name']:<16} {cleaning.WORDS[row['way']]:<14} {row['words']}")
        if row["way"] == "leave" and row["proposed"]:
            lines.append(f"{'':<16} proposed: {row['proposed']['title']}")
    emit({"look": measure.plan.cleaning.look, "mics": rows}, as_json, lines)
