"""What the server lets in: by its head, before the body is read, and only as long as it comes."""

import socket
import threading
import time
from types import SimpleNamespace

import pytest
from django.contrib.sessions.backends.db import SessionStore
from django.middleware.csrf import _mask_cipher_secret
from django.test import Client

from arkund.studio import door, hosts

SECRET = "aB3xY9kQ" * 4


def head(cookie: str = "", token: str = "") -> dict[str, str]:
    return {"COOKIE": f"csrftoken={SECRET}; {cookie}", "X_CSRFTOKEN": token}


@pytest.mark.django_db
class TestMostBytes:
    """How much a request may bring."""

    @pytest.fixture(autouse=True)
    def logins(self, settings):
        settings.LOGIN_REQUIRED = True

    def user_cookie(self, django_user_model) -> str:
        client = Client()
        client.force_login(django_user_model.objects.create_user("anna", password="a longer word"))
        return f"sessionid={client.cookies['sessionid'].value}"

    def test_strangers(self, django_user_model):
        """A login's few bytes, whatever they claim."""
        token = _mask_cipher_secret(SECRET)
        made_up = SessionStore()
        made_up.create()
        for cookie in ("", "sessionid=guessed", f"sessionid={made_up.session_key}", "sessionid=\x00; =;;"):
            assert door.most_bytes("POST", "/load", head(cookie, token)) == door.MOST_STRANGER_BYTES
        mine = self.user_cookie(django_user_model)
        for wrong in ("", "b" * 32, "b" * 64, "é" * 32, token[:-1]):
            assert door.most_bytes("POST", "/load", head(mine, wrong)) == door.MOST_STRANGER_BYTES

    def test_users(self, django_user_model):
        """Recordings where recordings go, a page's settings elsewhere."""
        mine = self.user_cookie(django_user_model)
        for token in (SECRET, _mask_cipher_secret(SECRET)):
            assert door.most_bytes("POST", "/load", head(mine, token)) == door.MOST_UPLOAD_BYTES
            assert door.most_bytes("POST", "/s/12/take-in", head(mine, token)) == door.MOST_UPLOAD_BYTES
            assert door.most_bytes("POST", "/s/12/moves", head(mine, token)) == door.MOST_BODY_BYTES
            assert door.most_bytes("GET", "/load", head(mine, token)) == door.MOST_STRANGER_BYTES

    def test_one_who_may_no_longer(self, django_user_model):
        """A login that was closed is a stranger's."""
        mine = self.user_cookie(django_user_model)
        django_user_model.objects.update(is_active=False)
        assert door.most_bytes("POST", "/load", head(mine, SECRET)) == door.MOST_STRANGER_BYTES


@pytest.fixture
def served(monkeypatch):
    """A small application behind the door, on a free port; times are short."""
    for name, value in {"HEAD_S": 0.3, "BODY_GRACE_S": 0.3, "LOOK_EVERY_S": 0.1}.items():
        monkeypatch.setattr(door, name, value)

    def application(environ, start):
        body = environ["wsgi.input"].read()
        start("200 OK", [("Content-Type", "text/plain")])
        return [str(len(body)).encode()]

    server = door.open_at(application, "127.0.0.1", 0)
    threading.Thread(target=server.run, daemon=True).start()
    yield int(server.effective_port)
    server.close()


def answer(port: int, sent: bytes, within_s: float = 5.0) -> bytes:
    """Return what comes back until the server closes."""
    with socket.create_connection(("127.0.0.1", port), timeout=within_s) as connection:
        connection.sendall(sent)
        out = b""
        while part := connection.recv(4096):
            out += part
        return out


class TestServer:
    """The door of a real server."""

    def test_large_bodies_are_refused_by_their_head(self, served):
        """Nothing of 64 GB is waited for; a body that tells no length is cut off at the bound."""
        said = answer(served, b"POST /load HTTP/1.1\r\nHost: x\r\nContent-Length: 64000000000\r\n\r\n")
        assert said.startswith(b"HTTP/1.1 413")
        chunk = b"8000\r\n" + b"a" * 0x8000 + b"\r\n"
        said = answer(
            served, b"POST /x HTTP/1.1\r\nHost: x\r\nTransfer-Encoding: chunked\r\n\r\n" + 2 * chunk + b"1\r\na\r\n"
        )
        assert said.startswith(b"HTTP/1.1 413")
        few = b"POST /login/ HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Length: 3\r\n\r\nabc"
        assert answer(served, few).endswith(b"3")

    def test_a_disk_without_room(self, served, monkeypatch):
        """Said before the upload comes."""
        monkeypatch.setattr(door, "most_bytes", lambda *_: door.MOST_UPLOAD_BYTES)
        monkeypatch.setattr(door.room.shutil, "disk_usage", lambda _: SimpleNamespace(free=10**9))
        said = answer(served, b"POST /load HTTP/1.1\r\nHost: x\r\nContent-Length: 2000000000\r\n\r\n")
        assert said.startswith(b"HTTP/1.1 507")
        assert b"too little room" in said

    @pytest.mark.parametrize(
        "sent",
        [
            b"",
            b"GET / HT",
            b"GET / HTTP/1.1\r\nHost: x\r\n",
            b"POST / HTTP/1.1\r\nHost: x\r\nContent-Length: 9\r\n\r\n",
        ],
    )
    def test_half_open_ones_are_let_go(self, served, sent):
        """One that says nothing, half a head, or nothing of its body."""
        assert answer(served, sent) == b""

    def test_many_half_open_ones_stop_nobody(self, served):
        """Three hundred of them, and a page is there at once."""
        half = [socket.create_connection(("127.0.0.1", served)) for _ in range(300)]
        began = time.monotonic()
        assert answer(served, b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").startswith(b"HTTP/1.1 200")
        assert time.monotonic() - began < 5
        for each in half:
            each.close()

    def test_no_descriptor_is_too_high(self, served):
        """Beyond 1024, where select() ends."""
        many = [socket.socket() for _ in range(1100)]
        assert answer(served, b"GET / HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").startswith(b"HTTP/1.1 200")
        for each in many:
            each.close()


class TestHosts:
    """Under which names it answers."""

    @pytest.mark.parametrize("host", ["127.0.0.1", "127.0.0.2", "::1", "[::1]", "localhost"])
    def test_loopback(self, host):
        """Where no login is asked for."""
        assert hosts.is_loopback(host)

    @pytest.mark.parametrize("host", ["0.0.0.0", "::", "192.168.7.7", "studio.example"])  # noqa: S104
    def test_others(self, host):
        """Where one is."""
        assert not hosts.is_loopback(host)

    def test_allowed(self):
        """The address itself and the names given; for all addresses this machine's own."""
        assert hosts.allowed("127.0.0.2", ()) == ["127.0.0.2"]
        assert hosts.allowed("::1", ("drums.example",)) == ["drums.example", "[::1]"]
        everywhere = hosts.allowed("0.0.0.0", ("drums.example",))  # noqa: S104
        assert everywhere[0] == "drums.example"
        assert socket.gethostname().lower() in everywhere
        assert "0.0.0.0" not in everywhere  # noqa: S104


@pytest.mark.django_db
class TestBrake:
    """Wrong passwords."""

    def test_one_account_from_one_address_waits(self, settings, django_user_model, client):
        """After a few; the right one too then, but not from elsewhere, and not for another account."""
        settings.LOGIN_REQUIRED = settings.AXES_ENABLED = True
        settings.PASSWORD_HASHERS = [
            "django.contrib.auth.hashers.MD5PasswordHasher"
        ]  # for the test's time, not its subject
        settings.MIDDLEWARE = [*settings.MIDDLEWARE, "axes.middleware.AxesMiddleware"]
        for name in ("anna", "ben"):
            django_user_model.objects.create_user(name, password="a longer word")

        def login(name: str, password: str, address: str = "10.0.0.1") -> int:
            given = {"username": name, "password": password}
            return Client(REMOTE_ADDR=address).post("/login/", given).status_code

        assert [login("anna", f"guess {k}") for k in range(6)][-1] == 429
        assert login("anna", "a longer word") == 429
        assert login("anna", "a longer word", "10.0.0.2") == 302
        assert login("ben", "a longer word") == 302
