"""The example configuration of docs/nginx.conf, with nginx and TLS on this machine: ``make proxy``. It needs nginx and openssl."""

import http.client
import re
import shutil
import socket
import ssl
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from urllib.parse import urlencode

from arkund.studio.cli.served import served
from tests.reliability.ground import set_up

CONFIGURATION = Path(__file__).parents[2] / "docs" / "nginx.conf"
NAME, USER, PASSWORD = "drums.example", "nora", "a-longer-word-7"


def free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return free.getsockname()[1]


class Visitor:
    """Somebody who comes through the proxy, with cookies."""

    def __init__(self, port: int, certificate: Path) -> None:
        self.port, self.trusted = port, ssl.create_default_context(cafile=str(certificate))
        self.cookies: dict[str, str] = {}
        self.secure: set[str] = set()

    def ask(self, method: str, address: str, body: bytes | None = None, **headers: str) -> tuple[int, str]:
        """Ask for an address of NAME over TLS."""
        with socket.create_connection(("127.0.0.1", self.port), timeout=20) as plain:
            connection = http.client.HTTPSConnection(NAME, context=self.trusted)
            connection.sock = self.trusted.wrap_socket(plain, server_hostname=NAME)
            cookies = "; ".join(f"{name}={value}" for name, value in self.cookies.items())
            referer = f"https://{NAME}/"
            connection.request(
                method, address, body, {"Cookie": cookies, "Referer": referer, "Origin": referer[:-1], **headers}
            )
            answer = connection.getresponse()
            for set_cookie in answer.headers.get_all("Set-Cookie") or []:
                name, value = set_cookie.split(";")[0].split("=", 1)
                self.cookies[name] = value
                if "secure" in set_cookie.lower():
                    self.secure.add(name)
            return answer.status, answer.read().decode("utf-8", "replace")

    def login(self, password: str, **headers: str) -> int:
        """Try to log in."""
        _, page = self.ask("GET", "/login/")
        token = re.search(r'csrfmiddlewaretoken" value="([^"]+)', page)[1]
        form = {"username": USER, "password": password, "csrfmiddlewaretoken": token}
        kind = {"Content-Type": "application/x-www-form-urlencoded"}
        return self.ask("POST", "/login/", urlencode(form).encode(), **kind, **headers)[0]


def configured(folder: Path, behind: int, front: int) -> Path:
    """Write the example with ports, paths and a certificate of its own."""
    made = ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", f"/CN={NAME}"]
    made += ["-addext", f"subjectAltName=DNS:{NAME}", "-keyout", str(folder / "key"), "-out", str(folder / "pem")]
    subprocess.run(made, check=True, capture_output=True)
    text = CONFIGURATION.read_text()
    for old, new in {
        "listen 443 ssl": f"listen 127.0.0.1:{front} ssl",
        "/etc/ssl/drums.example.pem": str(folder / "pem"),
        "/etc/ssl/drums.example.key": str(folder / "key"),
        "127.0.0.1:8433": f"127.0.0.1:{behind}",
    }.items():
        assert old in text, old
        text = text.replace(old, new)
    places = "".join(
        f"{kind}_temp_path {folder}/{kind};\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    whole = f"pid {folder}/pid;\nerror_log {folder}/errors;\nevents {{}}\nhttp {{\naccess_log off;\n{places}{text}}}\n"
    (folder / "nginx.conf").write_text(whole)
    return folder / "nginx.conf"


def run(folder: Path) -> list[str]:
    """Start both and come through the door; return what is wrong."""
    set_up(folder / "data")
    from django.contrib.auth import get_user_model

    get_user_model().objects.create_user(USER, password=PASSWORD, is_staff=True)
    front = free_port()
    with served(folder / "data", "--proxy", "127.0.0.1", "--name", NAME) as server:
        nginx = subprocess.Popen(["nginx", "-c", str(configured(folder, server.port, front)), "-g", "daemon off;"])
        try:
            until = time.monotonic() + 30
            while time.monotonic() < until and socket.socket().connect_ex(("127.0.0.1", front)):
                time.sleep(0.2)
            return list(_wrong(front, folder / "pem"))
        finally:
            nginx.terminate()
            nginx.wait(10)


def _wrong(front: int, certificate: Path):
    nora = Visitor(front, certificate)
    if nora.ask("GET", "/")[0] != 302:
        yield "a stranger was let in"
    if nora.login(PASSWORD) != 302 or nora.ask("GET", "/")[0] != 200:
        yield "nobody can log in over TLS"
    if nora.secure != {"csrftoken", "sessionid"}:
        yield f"cookies without TLS: {nora.secure}"
    token = {"X-CSRFToken": nora.cookies["csrftoken"]}
    status, said = nora.ask(
        "POST", "/load", b"x" * 300_000, **token, **{"Content-Type": "multipart/form-data; boundary=b"}
    )
    if status != 400 or "cannot be read" not in said:  # it came through, and is no upload
        yield f"a user's large body: {status} {said[:100]}"
    stranger = Visitor(front, certificate)
    status, _ = stranger.ask("POST", "/load", b"x" * 300_000, **{"Content-Type": "multipart/form-data; boundary=b"})
    if status != 413:
        yield f"a stranger's large body: {status}"
    forged = [stranger.login(f"guess {k}", **{"X-Forwarded-For": f"10.9.8.{k}"}) for k in range(8)]
    if forged[-1] != 429:
        yield f"a forged address escapes the brake: {forged}"
    if stranger.ask("GET", "/", None, Host="elsewhere.example")[0] not in (400, 302):
        yield "another name was answered"


if __name__ == "__main__":
    if not (shutil.which("nginx") and shutil.which("openssl")):
        sys.exit("It needs nginx and openssl; Debian: apt install nginx-light openssl")
    with tempfile.TemporaryDirectory(prefix="arkund-proxy-") as name:
        faults = run(Path(name))
    print(f"behind a proxy: {len(faults)} wrong")
    print("\n".join(faults))
    sys.exit(bool(faults))
