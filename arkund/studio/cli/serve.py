"""``arkund serve`` and ``arkund user``: start the application; make a login for other addresses."""

import os
import signal
import sys
from collections.abc import Callable

import click

from arkund.studio.cli.group import main, migrate, set_up


@main.command()
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on; 0.0.0.0 for all.")
@click.option(
    "--port",
    default=8433,
    show_default=True,
    type=click.IntRange(0, 65535),
    help="The port to listen on; 0 for any that is free.",
)
@click.option(
    "--name", "names", multiple=True, help="A host name under which it is reached; may be given more than once."
)
@click.option(
    "--proxy",
    help="Address of a reverse proxy with TLS in front of it, whose forwarded headers are believed (docs/scaling.md).",
)
def serve(host: str, port: int, names: tuple[str, ...], proxy: str | None) -> None:
    """Start the application; on any address but this machine's own, and behind a proxy, it asks for a login."""
    from arkund.studio import hosts

    allowed = hosts.allowed(host, names)
    os.environ["ARKUND_HOSTS"] = ",".join([*filter(None, os.environ.get("ARKUND_HOSTS", "").split(",")), *allowed])
    if proxy:
        os.environ["ARKUND_PROXY"] = proxy
    if proxy or not hosts.is_loopback(host):
        os.environ["ARKUND_LOGIN"] = "1"
    set_up()
    from arkund.studio.services import owner

    with owner.owning("starts to serve") as say:
        _serve(host, port, say)


def _serve(host: str, port: int, say: Callable[[str], None]) -> None:
    from django.conf import settings
    from django.contrib.auth import get_user_model

    from arkund.core.errors import SettingsError
    from arkund.studio import door, hosts
    from arkund.studio.pages.later import fetch_all
    from arkund.studio.services import copies, opening, reserve
    from arkund.studio.services.housekeeping import clear_up
    from arkund.studio.wsgi import application

    full = reserve.give_up()
    opening.check()
    opening.check_whole()
    server = door.open_at(application, host, port)  # a port that is in use is told before anything is touched
    at = f"http://{hosts.bracketed(host)}:{server.effective_port}/"
    say(f"serves {at}")
    if copies.database().exists():
        copies.keep_if_possible()
    migrate()
    opening.check_age()
    if settings.LOGIN_REQUIRED and not get_user_model().objects.filter(is_active=True).exists():
        raise SettingsError(
            f"host: {host} can be reached by others and nobody can log in; run `arkund user NAME` first."
        )
    clear_up()
    reserve.hold()
    keeper = copies.Keeper()
    fetch_all()
    click.echo(f"Arkund is at {at}  (stop with Ctrl-C)")
    if full:
        click.echo(full)
    if settings.LOGIN_REQUIRED:
        click.echo(
            f"It asks for a login and answers to {', '.join(settings.ALLOWED_HOSTS)}; --name allows another name."
        )
    signal.signal(signal.SIGTERM, lambda number, frame: sys.exit(0))  # ends like Ctrl-C, with what changed kept
    try:
        server.run()
    finally:
        keeper.stop()


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
