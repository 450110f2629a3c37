"""``arkund batch``: many songs from their folders to their prints."""

import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path

import click

from arkund.core.errors import SettingsError
from arkund.studio.cli.group import emit, main, migrate
from arkund.studio.cli.work import json_option


@dataclass(slots=True)
class _Song:
    folder: Path
    share: float = 0.0
    doing: str = "waits"
    session: int | None = None
    error: str = ""
    account: list[str] = field(default_factory=list)


def _named(ctx: click.Context, param: click.Parameter, folders: tuple[str, ...]) -> tuple[Path, ...]:
    """Return folders by their whole paths, so that “.” has its name; one without a name is refused, as it would be the one that the shell stands in."""
    if "" in folders:
        raise SettingsError("folders: one of them has no name; give the folders with the recordings.")
    return tuple(Path(folder).absolute() for folder in folders)


@main.command()
@click.argument("folders", nargs=-1, required=True, type=click.Path(), callback=_named)
@click.option("--out", type=click.Path(path_type=Path), default=Path("prints"), show_default=True, help="Folder of the prints, one for each song.")  # fmt: skip
@click.option("--format", "format_name", type=click.Choice(["wav24", "wav32f", "flac24"]), default="wav24", show_default=True)  # fmt: skip
@click.option("--bpm", type=float, help="Tempo of all songs, where it is known.")
@json_option
@click.pass_context
def batch(
    ctx: click.Context, folders: tuple[Path, ...], out: Path, format_name: str, bpm: float | None, as_json: bool
) -> None:
    """Import each folder as a session, accept every first choice, and print it. What fails is said; the others go on."""
    from arkund.studio.services import places

    migrate()
    songs = [_Song(folder) for folder in folders]
    view = _View(songs)
    with ThreadPoolExecutor(places.side_by_side()) as pool:
        list(pool.map(lambda song: _whole_line(song, out.absolute(), format_name, bpm, view), songs))
    view.end()
    rows = [{"folder": str(s.folder), "session": s.session, "error": s.error, "account": s.account} for s in songs]
    emit({"songs": rows}, as_json, [line for song in songs for line in _told(song)])
    ctx.exit(2 if any(song.error for song in songs) else 0)


def _told(song: _Song) -> list[str]:
    """Return what became of a song, and what was done to it."""
    if song.error:
        return [f"{song.folder.name}: {song.error}"]
    return [f"{song.folder.name}: session {song.session}, printed", *(f"  {line}" for line in song.account)]


def _whole_line(song: _Song, out: Path, format_name: str, bpm: float | None, view: "_View") -> None:
    from django.db import close_old_connections

    from arkund.studio.models import Session
    from arkund.studio.services import account, editing, store
    from arkund.studio.services.importing import import_folder
    from arkund.studio.services.printing import print_session
    from arkund.studio.services.proposing import propose_all

    def part(name: str, first: float, last: float):
        return lambda share, text="": view.show(song, first + (last - first) * share, f"{name} {text}")

    try:
        session = import_folder(song.folder, bpm=bpm, on_progress=part("import", 0.0, 0.2))
        song.session = session.pk
        editing.settle_untold(session, bpm)
        propose_all(song.session, part("propose", 0.2, 0.7))
        session = Session.objects.get(pk=song.session)
        song.account = account.account(session).lines()
        print_session(session, out / song.folder.name, format_name, part("print", 0.7, 1.0))
    except Exception as error:
        said = store.refusal(error)
        if said is None:
            raise
        song.error = str(said)
    finally:
        close_old_connections()


class _View:
    """One line for each song, renewed in place on a terminal."""

    def __init__(self, songs: list[_Song]) -> None:
        self._songs, self._lock, self._drawn = songs, threading.Lock(), False

    def show(self, song: _Song, share: float, doing: str) -> None:
        """Draw all songs with what this one does now."""
        song.share, song.doing = share, doing
        if not sys.stderr.isatty():
            return
        with self._lock:
            up = f"\x1b[{len(self._songs)}A" if self._drawn else ""
            self._drawn = True
            rows = (f"\x1b[2K{s.folder.name[:28]:<28} {s.share:4.0%} {s.doing[:40]}\n" for s in self._songs)
            sys.stderr.write(up + "".join(rows))
            sys.stderr.flush()

    def end(self) -> None:
        """Show all as done."""
        for song in self._songs:
            self.show(song, 1.0, song.error or "done")
