"""The group of the console command ``arkund``, its errors, and what its sub-commands share."""

import errno
import json
import os
import sys

import click

from arkund import __version__
from arkund.core.errors import ArkundError, StorageError, UnchangedError

BAD_INPUT, OUR_FAILURE = 2, 1


class Arkund(click.Group):
    """Turns Arkund's own errors into one sentence and exit code 2, anything unexpected into 1."""

    def invoke(self, ctx: click.Context):
        """Run a sub-command and translate what goes wrong."""
        try:
            return super().invoke(ctx)
        except (click.ClickException, click.exceptions.Exit, click.Abort, BrokenPipeError):
            raise  # who reads through a pipe may have seen enough: click ends quietly
        except UnchangedError as said:
            click.echo(said)  # nothing had to be done: no failure
            return None
        except Exception as error:
            said = _refusal(error)
            if said is not None:
                click.echo(f"arkund: {said}", err=True)
                sys.exit(BAD_INPUT)
            if os.environ.get("ARKUND_DEBUG") == "1":
                raise
            click.echo(
                f"arkund: internal error ({type(error).__name__}: {error}); set ARKUND_DEBUG=1 to see where.",
                err=True,
            )
            sys.exit(OUR_FAILURE)


def _refusal(error: Exception) -> Exception | None:
    from django.apps import apps

    if not apps.ready:  # it was not even begun
        if isinstance(error, OSError) and error.errno == errno.ENOSPC:
            return StorageError(
                "The disk is full; nothing was touched. Make room where the data folder lies, and start again."
            )
        return error if isinstance(error, (ArkundError, OSError)) else None
    from arkund.studio.services import store

    return store.refusal(error)


@click.group(cls=Arkund, help="Turns a raw multi-microphone drum recording into a punchy kit.")
@click.version_option(__version__)
@click.pass_context
def main(ctx: click.Context) -> None:
    """Prepare Django before any sub-command, but for the one that says first how."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
    if ctx.invoked_subcommand != "serve":
        set_up()


def set_up() -> None:
    """Prepare Django as the ARKUND_* variables say."""
    import django

    django.setup()
    from django.conf import settings

    from arkund.studio.memory import keep_freed

    keep_freed(settings.MEMORY_BYTES)


def migrate() -> None:
    """Bring the database up to date; quick when it already is. Raises SettingsError where it is lost or damaged, before anything is written."""
    from django.core.management import call_command

    from arkund.studio.services import opening

    opening.check()
    call_command("migrate", verbosity=0, interactive=False)
    opening.keep_private()


def emit(data, as_json: bool, lines) -> None:
    """Print data as JSON, or lines for people."""
    if as_json:
        click.echo(json.dumps(data, indent=1))
    else:
        for line in lines:
            click.echo(line)


def bar(share: float, text: str) -> None:
    """Draw progress on standard error: a line that renews itself on a terminal."""
    if not sys.stderr.isatty():
        return
    done = round(share * 30)
    sys.stderr.write(f"\r  [{'#' * done}{'.' * (30 - done)}] {share:4.0%} {text[:40]:<40}")
    if share >= 1.0:
        sys.stderr.write("\n")
    sys.stderr.flush()


def session_of(ref: str):
    """Return a session by its number or its name."""
    from arkund.core.errors import SettingsError
    from arkund.studio.models import Session

    migrate()
    found = Session.objects.filter(pk=ref).first() if ref.isdecimal() and len(ref) < 19 else None
    found = found or Session.objects.filter(name=ref).first()
    if found is None:
        raise SettingsError(f"session: no session {ref!r}; `arkund sessions` lists them.")
    return found
