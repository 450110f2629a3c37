"""The server's door: how much a request may bring, and how long it may take to come, decided before its body is read.

waitress buffers a body as a whole before anything of ours is asked. So a stranger's is refused by its head, a big one also where the disk has no room for it;
who is slow, or stands half-open, is let go.
"""

import copy
import errno
import re
import resource
import socket
import time
from collections.abc import Mapping
from contextlib import suppress
from http.cookies import CookieError, SimpleCookie
from types import SimpleNamespace

from django.conf import settings
from django.db import DatabaseError, close_old_connections
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import TcpWSGIServer
from waitress.utilities import Error

from arkund.core.errors import SettingsError, StorageError
from arkund.core.files import room

THREADS = 32  # most of them wait for their turn to render (``services/turns.py``), so that pages always find one
UPLOADS = re.compile(r"/load|/s/\d+/take-in")
MOST_UPLOAD_BYTES = 64 * 1024**3
MOST_BODY_BYTES = 4 * 1024**2  # of a request that is no upload
MOST_STRANGER_BYTES = 64 * 1024  # a login, and what has no token of our pages
MOST_ANSWER_BYTES = 12 * 1024**2  # that wait in memory to be sent, so that a loop does not go through a file
MOST_CONNECTIONS = 1000
SPARE_DESCRIPTORS = 400  # for recordings, the database and prints
HEAD_S = 10.0  # a request's head must have come by then
BODY_GRACE_S, LEAST_BODY_BYTES_S = 20.0, 4096.0  # afterwards a body comes at least so fast
IDLE_S = 60
LOOK_EVERY_S = 2


class NoRoomError(Error):
    """The disk is too full for what a request brings."""

    code, reason = 507, "Insufficient Storage"


def most_bytes(command: str, path: str, headers: Mapping[str, str]) -> int:
    """Return how many bytes the body of a request may have, by its head (names as waitress gives them: upper case, with underscores)."""
    if command != "POST" or not _has_token(headers):
        return MOST_STRANGER_BYTES
    if settings.LOGIN_REQUIRED and not _is_user(headers):
        return MOST_STRANGER_BYTES
    return MOST_UPLOAD_BYTES if UPLOADS.fullmatch(path) else MOST_BODY_BYTES


def _cookie(headers: Mapping[str, str], name: str) -> str:
    with suppress(CookieError, KeyError):
        return SimpleCookie(headers.get("COOKIE", ""))[name].value
    return ""


def _has_token(headers: Mapping[str, str]) -> bool:
    """Say whether the token of one of our pages stands in the head, where it can be seen before the body is read."""
    from django.middleware.csrf import CSRF_SECRET_LENGTH, CSRF_TOKEN_LENGTH, _does_token_match

    given, kept = headers.get("X_CSRFTOKEN", ""), _cookie(headers, settings.CSRF_COOKIE_NAME)
    lengths = (CSRF_SECRET_LENGTH, CSRF_TOKEN_LENGTH)
    fits = (
        len(given) in lengths
        and len(kept) == CSRF_SECRET_LENGTH
        and (given + kept).isalnum()
        and (given + kept).isascii()
    )
    return fits and _does_token_match(given, kept)


def _is_user(headers: Mapping[str, str]) -> bool:
    from django.contrib.auth import get_user
    from django.contrib.sessions.backends.db import SessionStore

    close_old_connections()
    try:
        kept = SessionStore(_cookie(headers, settings.SESSION_COOKIE_NAME) or None)
        return get_user(SimpleNamespace(session=kept)).is_authenticated
    except DatabaseError:
        return False
    finally:
        close_old_connections()


class Parser(HTTPRequestParser):
    """Reads a request's head and decides what may follow."""

    def __init__(self, adj) -> None:
        super().__init__(adj)
        self.began_s = time.monotonic()

    def parse_header(self, header_plus: bytes) -> None:
        """Read the head, and limit the body by what it says."""
        super().parse_header(header_plus)
        if self.content_length or self.chunked:
            self.adj = copy.copy(self.adj)
            self.adj.max_request_body_size = most_bytes(self.command, self.path, self.headers) + 1

    def received(self, data: bytes) -> int:
        """Take in what came."""
        in_head = not self.headers_finished
        count = super().received(data)
        if in_head and self.headers_finished and self.error is None and self.content_length > MOST_BODY_BYTES:
            try:
                room.check(settings.DATA, 2 * self.content_length)  # buffered, then copied
            except StorageError as error:
                self.error, self.completed = NoRoomError(str(error)), True
        return count

    def too_slow(self) -> bool:
        """Say whether it should have come by now."""
        waited_s = time.monotonic() - self.began_s
        if not self.headers_finished:
            return waited_s > HEAD_S
        return self.body_bytes_received < LEAST_BODY_BYTES_S * (waited_s - BODY_GRACE_S)


class Channel(HTTPChannel):
    """One connection."""

    parser_class = Parser

    def overdue(self) -> bool:
        """Say whether it is kept open for nothing."""
        if self.requests or self.total_outbufs_len:
            return False
        if self.request is not None:
            return self.request.too_slow()
        return self.last_activity == self.creation_time and time.time() - self.creation_time > HEAD_S


class Server(TcpWSGIServer):
    """waitress with our door."""

    channel_class = Channel

    def maintenance(self, now: float) -> None:
        """Let those go who are slow or idle."""
        super().maintenance(now)
        for channel in list(self.active_channels.values()):
            if channel.overdue():
                channel.will_close = True


def open_at(application, host: str, port: int) -> Server:
    """Return the server, bound to its address; ``run`` lets it answer. Raises SettingsError that says why the address cannot be had."""
    try:
        return _opened(application, host, port)
    except OSError as error:
        raise SettingsError(_refused(host, port, error)) from error


def _refused(host: str, port: int, error: OSError) -> str:
    """Return why a server cannot listen at an address, and what to do."""
    if isinstance(error, socket.gaierror):
        return f"host: {host!r} is not known here ({error.strerror}); name an address of this machine."
    why = {
        errno.EADDRINUSE: f"port: {port} on {host} is already in use, perhaps by another Arkund; stop that, or choose another with --port (0: any free one).",
        errno.EACCES: f"port: the system does not let you listen on {port}; choose one above 1023 with --port.",
        errno.EADDRNOTAVAIL: f"host: {host} is no address of this machine; 127.0.0.1 is always one, 0.0.0.0 stands for all.",
    }
    return why.get(error.errno, f"host and port: cannot listen on {host}:{port} ({error.strerror or error}).")


def _opened(application, host: str, port: int) -> Server:
    proxy = {}
    if settings.PROXY:
        proxy = {
            "trusted_proxy": settings.PROXY,
            "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-host", "x-forwarded-proto"},
            "clear_untrusted_proxy_headers": True,
        }
    return Server(
        application,
        host="127.0.0.1" if host == "localhost" else host.strip("[]"),
        port=port,
        threads=THREADS,
        max_request_body_size=MOST_UPLOAD_BYTES,
        outbuf_overflow=MOST_ANSWER_BYTES,
        asyncore_use_poll=True,
        connection_limit=min(MOST_CONNECTIONS, max(_descriptors() - SPARE_DESCRIPTORS, 64)),
        channel_timeout=IDLE_S,
        cleanup_interval=LOOK_EVERY_S,
        ident="arkund",
        **proxy,
    )


def _descriptors() -> int:
    """Return how many descriptors the process may have, raised as far as the system lets it."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = min(hard, 8192) if hard != resource.RLIM_INFINITY else 8192
    if soft < wanted:
        with suppress(OSError, ValueError):
            resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
    return resource.getrlimit(resource.RLIMIT_NOFILE)[0]
