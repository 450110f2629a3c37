"""Reckonings from the command line."""

import click

from arkund.core.errors import SettingsError
from arkund.studio.cli.group import emit, main
from arkund.studio.cli.work import json_option


@main.command()
@click.argument("sheet", required=False)
@click.argument("values", nargs=-1)
@click.option(
    "--bpm", type=float, default=120.0, show_default=True, help="Of note values, where a time is typed as 1/8."
)
@json_option
def reckon(sheet: str | None, values: tuple[str, ...], bpm: float, as_json: bool) -> None:
    """Reckon small figures of the trade: `arkund reckon pitch hz=E1`; without a sheet it lists them, with what each asks for."""
    from arkund.core.reckon.sheets import SHEETS
    from arkund.core.reckon.sheets import reckon as reckoned

    if sheet is None:
        rows = [{"sheet": s.key, "title": s.title, "asks": [a.key for a in s.asks]} for s in SHEETS]
        emit({"sheets": rows}, as_json, [f"{r['sheet']:<12} {r['title']}: {', '.join(r['asks'])}" for r in rows])
        return
    typed = {}
    for each in values:
        key, sign, text = each.partition("=")
        if not sign:
            raise SettingsError(f"values: expected KEY=VALUE, got {each!r}.")
        typed[key] = text
    lines = reckoned(sheet, typed, bpm)
    data = [{"words": line.words, "value": line.value, "unit": line.unit} for line in lines]
    emit({"lines": data}, as_json, [f"{line.words:<24} {line.text:>16}" for line in lines])
