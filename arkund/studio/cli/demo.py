"""``arkund demo``: make the demo recording and import it, once."""

import tempfile
from pathlib import Path

import click

from arkund.studio.cli.group import bar, main, migrate


@main.command()
@click.option("--again", is_flag=True, help="Make it even where the demo session is there already.")
def demo(again: bool) -> None:
    """Make the demo session: three takes of an invented song with planted problems."""
    from arkund.core.demo import song
    from arkund.core.plan.plan import Section
    from arkund.studio.models import Session
    from arkund.studio.services import moves
    from arkund.studio.services.importing import import_folder
    from arkund.studio.services.recordings import find_all

    migrate()
    if not again and Session.objects.filter(name=song.SONG, ready=True).exists():
        click.echo("The demo session is there already.", err=True)
        return
    with tempfile.TemporaryDirectory(prefix="arkund-demo-") as name:
        folder = Path(name)
        click.echo(f"Playing {song.SONG} by {song.BAND} ({song.PLACE}) ...", err=True)
        song.generate(folder, bar)
        click.echo("Importing ...", err=True)
        session = import_folder(folder, name=song.SONG, bpm=song.BPM, on_progress=bar)
    starts, at = [], 0
    for section, bars, _ in song.SECTIONS:
        starts.append(Section(name=section, bar=at).to_json())
        at += bars
    moves.apply(
        session.pk,
        {"sections": starts, "tempo.first_bar_s": song.START_S},
        step="load",
        title="Sections and first bar from the drummer's sheet",
        version=session.version,
    )
    click.echo("Finding hits ...", err=True)
    session.refresh_from_db()
    find_all(session, lambda share: bar(share, "hits"))
