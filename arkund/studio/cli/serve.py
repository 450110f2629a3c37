"""``arkund serve`` and ``arkund user``: start the application; make a login for other addresses."""

import ipaddress
import os
import sys

import click

from arkund.studio.cli.group import main, migrate

THREADS = 8
MOST_UPLOAD_BYTES = 64 * 1024**3
MOST_ANSWER_BYTES = 32 * 1024**2  # that wait in memory to be sent, so that a loop does not go through a file


def is_loopback(host: str) -> bool:
    """Say whether only this machine can reach an address."""
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    except ValueError:
        return False


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True)
@click.option("--port", default=8433, show_default=True)
def serve(host: str, port: int) -> None:
    """Start the application; on any address but this machine's own it asks for a login."""
    from django.conf import settings
    from django.contrib.auth import get_user_model

    from arkund.core.errors import SettingsError

    migrate()
    if not is_loopback(host):
        if not get_user_model().objects.filter(is_active=True).exists():
            raise SettingsError(
                f"host: {host} can be reached by others and nobody can log in; run `arkund user NAME` first."
            )
        if not settings.LOGIN_REQUIRED:
            os.environ["ARKUND_LOGIN"] = "1"
            os.environ.setdefault("ARKUND_HOSTS", host)
            os.execv(sys.argv[0], [*sys.argv])  # noqa: S606 (starts itself anew, with the login on)
    import waitress

    from arkund.studio.pages.later import fetch_all
    from arkund.studio.services.housekeeping import clear_up
    from arkund.studio.wsgi import application

    clear_up()
    fetch_all()
    click.echo(f"Arkund is at http://{host}:{port}/  (stop with Ctrl-C)")
    waitress.serve(
        application,
        host=host,
        port=port,
        threads=THREADS,
        max_request_body_size=MOST_UPLOAD_BYTES,
        outbuf_overflow=MOST_ANSWER_BYTES,
        ident="arkund",
    )


@main.command()
@click.argument("name")
@click.password_option()
@click.option(
    "--keeper",
    is_flag=True,
    help="Sees all sessions; others see those that they load or that `arkund share` opens to them.",
)
def user(name: str, password: str, keeper: bool) -> None:
    """Make a login, or give an existing one a new password."""
    from django.contrib.auth import get_user_model
    from django.contrib.auth.password_validation import validate_password
    from django.core.exceptions import ValidationError

    from arkund.core.errors import SettingsError

    migrate()
    account, _ = get_user_model().objects.get_or_create(username=name)
    try:
        validate_password(password, account)
    except ValidationError as error:
        raise SettingsError(f"password: {' '.join(error.messages)}") from error
    account.set_password(password)
    account.is_staff = keeper
    account.save()
    click.echo(f"{name} can log in.")
