"""Sub-commands that keep sessions safe: archive, restore, doctor, share."""

from pathlib import Path

import click

from arkund.studio.cli.group import bar, emit, main, migrate, session_of
from arkund.studio.cli.work import json_option


@main.command()
@click.argument("session")
@click.argument("file", type=click.Path(path_type=Path))
@json_option
def archive(session: str, file: Path, as_json: bool) -> None:
    """Write a session with its recordings and logbook into one file."""
    from arkund.studio.services.archiving import archive as write

    made = write(session_of(session), file.absolute(), bar)
    emit({"file": str(file), "bytes": made.stat().st_size}, as_json, [f"{file}: {made.stat().st_size / 1e6:.1f} MB"])


@main.command()
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--name", help="Name of the new session; default: as it was called.")
@json_option
def restore(file: Path, name: str | None, as_json: bool) -> None:
    """Make a new session of an archive."""
    from arkund.studio.services.archiving import restore as read

    migrate()
    session = read(file, name=name, on_progress=bar)
    data = {"session": session.pk, "name": session.name, "moves": session.moves.count()}
    emit(data, as_json, [f"session {session.pk}: {session.name}, {data['moves']} Moves"])


@main.command()
@click.option("--repair", is_flag=True, help="Repair what can be repaired.")
@click.option(
    "--from",
    "heal_from",
    type=click.Path(path_type=Path, file_okay=False, exists=True),
    help="A folder with the original files of lost recordings.",
)
@click.option(
    "--restore",
    "day",
    is_flag=False,
    flag_value="all",
    metavar="[DAY]",
    help="Bring back what was put aside, and the sessions it belongs to.",
)
@click.option(
    "--from-audio",
    is_flag=True,
    help="Rebuild sessions that the database does not know from the cards beside the recordings.",
)
@click.option(
    "--bring-back-database",
    "copy",
    is_flag=False,
    flag_value="newest",
    metavar="[COPY]",
    help="Put a copy of the database in its place.",
)
@json_option
@click.pass_context
def doctor(
    ctx: click.Context, repair: bool, heal_from: Path | None, day: str, from_audio: bool, copy: str, as_json: bool
) -> None:
    """Check the data folder: does it hold what the database says? Exit code 1 where something remains to be done."""
    from contextlib import nullcontext

    from arkund.studio.services import owner, recovery
    from arkund.studio.services.doctor import examine

    changes = repair or from_audio or heal_from is not None or day is not None or copy is not None
    with owner.owning("repairs the data folder") if changes else nullcontext():
        done = recovery.recover(copy=copy, from_audio=from_audio, day=day)
        fault = recovery.unopened()
        if fault is None:
            migrate()
            found = examine(repair=repair or heal_from is not None, heal_from=heal_from, on_progress=bar)
        else:
            found = [fault]
    rows = [{"what": c.what, "remedy": c.remedy, "repaired": c.repaired} for c in found]
    aside = recovery.put_aside_words()
    lines = [*done, *(f"{c.what}: {c.remedy}" for c in found)] or ["All is well."]
    emit({"done": done, "complaints": rows, "put_aside": aside}, as_json, [*lines, *aside])
    ctx.exit(0 if all(c.repaired for c in found) else 1)


@main.command()
@click.argument("session")
@click.argument("names", nargs=-1, required=True, metavar="NAME...")
@click.option("--take-away", is_flag=True, help="Close the session to them instead.")
def share(session: str, names: tuple[str, ...], take_away: bool) -> None:
    """Open a session to users who log in."""
    from django.contrib.auth import get_user_model

    from arkund.core.errors import SettingsError

    found = session_of(session)
    for name in names:
        account = get_user_model().objects.filter(username=name).first()
        if account is None:
            raise SettingsError(f"user: nobody is called {name!r}; `arkund user {name}` makes a login.")
        (found.members.remove if take_away else found.members.add)(account)
    click.echo(f"{found.name}: {', '.join(found.members.values_list('username', flat=True)) or 'nobody'}")
