"""Tone from the command line: what was measured of each mic."""

import click

from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.work import json_option


@main.command()
@click.argument("session")
@click.argument("mic", required=False)
@json_option
def tone(session: str, mic: str | None, as_json: bool) -> None:
    """Show what was measured of each mic, or of one: fundamental, ring (height, decay), the loudest of the box, and others' hits against own ones."""
    from arkund.studio.services.measuring import Measure
    from arkund.studio.services.toning import report

    measure = Measure(session_of(session))
    mics = [measure.plan.mic(mic)] if mic else [each for each in measure.plan.mics if not each.is_layer]
    rows = [report(measure, each) for each in mics]
    emit({"mics": rows}, as_json, [f"{row['name']:<18} {row['words']}" for row in rows])
