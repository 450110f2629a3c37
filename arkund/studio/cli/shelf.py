"""The shelf from the command line: hits kept, loaded, taken over, saved; and hits put in the place of others."""

from pathlib import Path

import click

from arkund.studio.cli.group import emit, main, session_of
from arkund.studio.cli.rig import make
from arkund.studio.cli.work import json_option


@main.group()
def shelf() -> None:
    """Keep hits that stand in for others and lie under them. `arkund layer add SESSION hits` lays them."""


@shelf.command("list")
@click.argument("session")
@json_option
def shelf_list(session: str, as_json: bool) -> None:
    """Show the hits of the shelf: of which drum, how strong, how long, where from."""
    mine = session_of(session)
    rows = [
        {
            "id": c.id,
            "name": c.name,
            "piece": c.piece,
            "level_db": c.level_db,
            "strength_db": c.strength_db if c.parts else None,
            "length_ms": round(1000 * c.length / mine.sample_rate_hz),
            "at_s": None if c.parts else c.at / mine.sample_rate_hz,
            "origin": c.origin or "this song",
        }
        for c in mine.plan.captures
    ]
    lines = [
        f"{r['id']:<22} {r['level_db']:6.1f} dBFS {r['length_ms']:5d} ms  {r['name']} ({r['origin']})" for r in rows
    ]
    emit({"hits": rows}, as_json, lines or ["the shelf is empty"])


@shelf.command("keep")
@click.argument("session")
@click.argument("piece")
@click.option("--at", "at_s", type=float, help="The hit at this time, in s of the recording; without it clean ones.")
@click.option("--take", default="", help="Of another take than the working one, by its key.")
@json_option
def shelf_keep(session: str, piece: str, at_s: float | None, take: str, as_json: bool) -> None:
    """Keep hits of this song: they stay where they are, and are heard in all mics; one Move."""
    from arkund.studio.services import shelving
    from arkund.studio.services.measuring import Measure

    make(session, as_json, lambda mine: shelving.capture(Measure(mine), piece, at_s, take), "replace")


@shelf.command("off")
@click.argument("session")
@click.argument("hit")
@json_option
def shelf_off(session: str, hit: str, as_json: bool) -> None:
    """Take a hit off the shelf; one Move."""
    from arkund.studio.services import shelving

    make(session, as_json, lambda mine: shelving.remove(mine.plan, hit), "replace")


@shelf.command("load")
@click.argument("session")
@click.argument("piece")
@click.argument("files", nargs=-1, required=True, type=click.Path(exists=True, path_type=Path))
@json_option
def shelf_load(session: str, piece: str, files: tuple[Path, ...], as_json: bool) -> None:
    """Take one-shots of a drum in from files, or a shelf's folder with all its drums; one Move."""
    from arkund.core.replace.shelf_folder import CONTENTS
    from arkund.studio.services import shelf_files

    paths = [path / CONTENTS if path.is_dir() else path for path in files]
    move, told = shelf_files.load(session_of(session), paths, piece)
    _said(move, as_json, told)


@shelf.command("take")
@click.argument("session")
@click.argument("other")
@json_option
def shelf_take(session: str, other: str, as_json: bool) -> None:
    """Take the hits of another session's shelf over; one Move."""
    from arkund.studio.services import shelf_files

    _said(shelf_files.take_over(session_of(session), session_of(other)), as_json)


@shelf.command("save")
@click.argument("session")
@click.argument("folder", type=click.Path(path_type=Path))
@json_option
def shelf_save(session: str, folder: Path, as_json: bool) -> None:
    """Write the shelf into a new folder: WAV files, described by shelf.json."""
    from arkund.studio.services import shelf_files

    count = shelf_files.save(session_of(session), folder)
    emit({"folder": str(folder), "hits": count}, as_json, [f"{count} hits in {folder}"])


@shelf.command("replace")
@click.argument("session")
@click.argument("piece")
@click.argument("at_s", type=float)
@click.option("--by", "hit", default="", help="A hit of the shelf; without it one of the song that fits.")
@click.option("--own-mics", is_flag=True, help="In the mics of the drum alone, not in overheads, rooms and others.")
@click.option("--as-played", is_flag=True, help="As strong as the one that it stands for, not as the usual hit.")
@json_option
def shelf_replace(
    session: str, piece: str, at_s: float, hit: str, own_mics: bool, as_played: bool, as_json: bool
) -> None:
    """Put a hit in the place of the one at a time in s of the recording, or where one is missing; one Move."""
    from arkund.studio.services import shelving
    from arkund.studio.services.measuring import Measure

    how = {"capture_id": hit, "everywhere": not own_mics, "as_played": as_played}
    make(session, as_json, lambda mine: shelving.replace(Measure(mine), piece, at_s, **how), "replace")


@shelf.command("back")
@click.argument("session")
@click.argument("at_s", type=float)
@json_option
def shelf_back(session: str, at_s: float, as_json: bool) -> None:
    """Take away what stands in the place of a hit; one Move."""
    from arkund.studio.services import shelving

    make(session, as_json, lambda mine: shelving.put_back(mine.plan, at_s, mine.sample_rate_hz), "replace")


def _said(move, as_json: bool, told: str = "") -> None:
    data = {"move": move.number, "title": move.title, "told": told}
    emit(data, as_json, [f"move {move.number}: {move.title}", *([told] if told else [])])
