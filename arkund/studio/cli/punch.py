"""Punch from the command line: what a strip's tools do to its hits, and settings solved for what is wanted."""

import dataclasses

import click

from arkund.core.errors import SettingsError
from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.work import json_option

ASKED = {"reduction": "reduction_db", "recovered": "left_db", "attack": "attack_db"}
AS_LOUD = "as-loud"


@main.command()
@click.argument("session")
@click.argument("strip")
@click.argument("wanted", nargs=-1, required=True)
@click.option("--tool", "tool_id", default="", help="Which compressor or shaper of its row, where it has several.")
@click.option("--at", "piece", default="", help="By whose hits it is judged, as snare; else the strip's own.")
@click.option("--dry-run", is_flag=True, help="Say what would be set, and change nothing.")
@json_option
def solve(
    session: str, strip: str, wanted: tuple[str, ...], tool_id: str, piece: str, dry_run: bool, as_json: bool
) -> None:
    """Set a strip's compressor and shaper so that they give what is wanted, as one Move; each try is measured on its own hits.

    WANTED is one or more of reduction=4 (dB that the usual hit loses at its deepest), recovered=0.5 (dB of it that may be left at the next hit: the longest
    such release), attack=3 (dB by which attack rises against body), as-loud (make-up by the loudness that was lost).
    """
    from arkund.studio.services import solving
    from arkund.studio.services.measuring import Measure

    found = session_of(session)
    solved = solving.solve(Measure(found), strip, _wanted(wanted), tool_id, piece)
    if not dry_run:
        solving.make(found, solved, found.version)
    state = "missed" if solved.missed else "reached"
    lines = [solved.title, f"wanted:  {solved.asked}", f"{state}: {solved.reached_words}", f"cost:    {solved.cost}"]
    emit(dataclasses.asdict(solved), as_json, lines)


def _wanted(given: tuple[str, ...]):
    from arkund.core.punch.solve import Wanted

    values: dict = {}
    for each in given:
        name, _, text = each.partition("=")
        if name == AS_LOUD and not text:
            values["as_loud"] = True
            continue
        if name not in ASKED:
            raise SettingsError(f"wanted: expected {', '.join(f'{k}=DB' for k in ASKED)} or {AS_LOUD}, got {each!r}.")
        try:
            values[ASKED[name]] = float(text)
        except ValueError as error:
            raise SettingsError(f"{name}: expected a number of dB, got {text!r}.") from error
    return Wanted(**values)


@main.command()
@click.argument("session")
@click.argument("strip", required=False)
@json_option
def punch(session: str, strip: str | None, as_json: bool) -> None:
    """Show what each shell mic's tools, or those of one strip, do to its hits: attack against body, and what its first compressor takes."""
    from arkund.studio.services import solving
    from arkund.studio.services.measuring import Measure

    measure = Measure(session_of(session))
    names = [strip] if strip else [f"mic:{mic.id}" for mic in measure.shells()]
    rows, lines = [], []
    for name in names:
        row = solving.report(measure, name)
        rows.append(row)
        lines.append(f"{row['name']:<18} {row['words']}")
    emit({"strips": rows}, as_json, lines)
