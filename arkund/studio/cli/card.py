"""The kit card from the command line."""

import click

from arkund.core.card.targets import SCHOOLS
from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.work import json_option


@main.command("kit")
@click.argument("session")
@click.option("--school", type=click.Choice(SCHOOLS), help="Whose targets; else the session's.")
@json_option
def kit(session: str, school: str | None, as_json: bool) -> None:
    """Show what the kit measures, raw and now, against the targets of a school, and what it lost against the raw sum."""
    from arkund.studio.services import carding
    from arkund.studio.services.measuring import Measure

    measure = Measure(session_of(session))
    school = school or measure.plan.school
    carding.calm(measure)
    rows, lost = (carding.told(found(measure, school)) for found in (carding.card, carding.lost))
    lines = [*map(_line, rows), "What must not be lost, against the raw sum:", *map(_line, lost)]
    lines += [
        f"  {row['words']}: {row['help']['words']} ({row['help']['step']})" for row in (*rows, *lost) if row["help"]
    ]
    emit({"school": school, "figures": rows, "lost": lost}, as_json, lines)


def _line(row: dict) -> str:
    shown = ["   –  " if row[key] is None else f"{row[key]:6.1f}" for key in ("raw", "now", "value")]
    low, high = ("" if edge is None else f"{edge:+g}" for edge in row["target"])
    state = "?" if row["value"] is None else "ok" if row["off"] <= 0.05 else f"off by {row['off']:.1f}"
    verse = "" if row["calm"] is None else f", calmest part {row['calm']:.1f}"
    state = f"{state}, {row['said']}" if row["said"] else state
    return f"{row['words']:<58} raw {shown[0]} now {shown[1]} {row['against']:>6} {shown[2]}  [{low}..{high}] {state}{verse}"
