"""The real server as a child process, and headless Chromium."""

import dataclasses
import json
import re
import secrets
import time
import urllib.request
from pathlib import Path
from types import SimpleNamespace

import pytest
import soundfile
from playwright.sync_api import expect, sync_playwright

from arkund.core.demo.recording import varied_kit
from arkund.studio.cli.served import served
from tests.kits import small_kit

RING_HZ = 812.0
PATIENCE_MS = 60_000  # for whatever a page shows or answers: a busy machine is no failure
ONE_CLICK_MS = 600_000  # it renders and measures a kit some seventy times
expect.set_options(timeout=PATIENCE_MS)
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking"]
FLAGS += ["--disable-component-update", "--disable-sync", "--autoplay-policy=no-user-gesture-required"]


@pytest.fixture(scope="session")
def recordings(tmp_path_factory) -> Path:
    """A small kit whose snare rings, with two takes, as files."""
    to = tmp_path_factory.mktemp("browser") / "Garden Shed"
    drop = ("Kik sub", "Talkback", "Rm L", "Rm R", "Ride", "T2", "FT")
    voices = varied_kit(995).voices
    voices["snare"] = dataclasses.replace(voices["snare"], ring_hz=RING_HZ, ring_db=-14.0)
    kit = small_kit(
        seed=995, style="straight", bpm=116.0, bars=5, drop=drop, voices=voices, play_with={"floor_fills": False}
    )
    for take in ("take 1", "take 2"):
        (to / take).mkdir(parents=True)
        for name, audio in kit.audio.items():
            soundfile.write(to / take / f"{name}.wav", audio, kit.sample_rate_hz, subtype="PCM_24")
    return to


@pytest.fixture(scope="session")
def address(tmp_path_factory):
    """Start `arkund serve` on a free port; stop it at the end."""
    with served(tmp_path_factory.mktemp("served"), env={"ARKUND_BACKGROUND": "1"}) as server:
        yield server.address


@pytest.fixture(scope="session")
def chromium():
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield browser
        browser.close()


def loaded(chromium, address: str, folder: Path) -> str:
    """Load a folder through the page, as an engineer does; return the session's address."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    page = context.new_page()
    page.set_default_timeout(PATIENCE_MS)
    page.goto(address)
    page.get_by_label("tempo in BPM").fill("116")
    page.locator("#folder").set_input_files(folder)
    page.wait_for_url(re.compile(r"/s/\d+/load/"))
    expect(page.get_by_role("heading", name="What did each mic really hear?")).to_be_visible()
    found = page.url.rsplit("/load/", 1)[0]
    context.close()
    return found


@pytest.fixture(scope="session")
def visitor(chromium, address):
    """One who asks the server without a page, with the token that its pages have."""
    context = chromium.new_context(base_url=address)
    context.request.get("/")
    token = next(each["value"] for each in context.cookies() if each["name"] == "csrftoken")
    context.set_extra_http_headers({"X-CSRFToken": token, "Referer": address})
    yield context.request
    context.close()


def done(visitor, answer) -> dict:
    """Return the row of the job that an answer names, once it is done."""
    assert answer.ok, answer.text()
    number = answer.json()["job"]
    until = time.monotonic() + PATIENCE_MS / 1000
    while time.monotonic() < until:
        row = visitor.get(f"/jobs/{number}").json()
        if row["state"] not in ("waiting", "running"):
            assert row["state"] == "done", row
            return row
        time.sleep(0.05)
    raise AssertionError(f"job {number} was not done in time")


@pytest.fixture(scope="session")
def archived(address, chromium, recordings, visitor) -> bytes:
    """The small kit's session as it was imported, as an archive."""
    number = loaded(chromium, address, recordings).rsplit("/", 1)[1]
    job = done(visitor, visitor.post(f"/s/{number}/archive"))
    return visitor.get(f"/s/{number}/archive/{job['id']}.zip").body()


def restored(address: str, visitor, archive: bytes) -> str:
    """Bring an archive back; return the new session's address."""
    job = done(visitor, posted(address, visitor, archive))
    return f"{address}/s/{job['result']['session']}"


def posted(address: str, visitor, archive: bytes) -> SimpleNamespace:
    """Hand in an archive as the page does, beside the browser: ten times as quick as through it."""
    cookies = {each["name"]: each["value"] for each in visitor.storage_state()["cookies"]}
    edge = secrets.token_hex()
    head = f'--{edge}\r\nContent-Disposition: form-data; name="files"; filename="kit.zip"\r\nContent-Type: application/zip\r\n\r\n'
    body = head.encode() + archive + f"\r\n--{edge}--\r\n".encode()
    told = {
        "Content-Type": f"multipart/form-data; boundary={edge}",
        "Cookie": "; ".join(f"{name}={value}" for name, value in cookies.items()),
        "X-CSRFToken": cookies["csrftoken"],
        "Referer": address,
    }
    with urllib.request.urlopen(urllib.request.Request(f"{address}/load", body, told)) as answer:
        text = answer.read().decode()
        return SimpleNamespace(ok=True, text=lambda: text, json=lambda: json.loads(text))


@pytest.fixture
def session(address, visitor, archived) -> str:
    """Return the address of a session of the small kit that no other test has touched."""
    return restored(address, visitor, archived)


@pytest.fixture(scope="session")
def looked_at(address, visitor, archived) -> str:
    """Return the address of a session of the small kit for tests that change nothing."""
    return restored(address, visitor, archived)


@pytest.fixture
def page(chromium):
    """A page that fails the test where its console shows an error or a foreign request is made."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    made = context.new_page()
    problems: list[str] = []
    made.on("console", lambda m: problems.append(m.text) if m.type == "error" and "409" not in m.text else None)
    made.on("pageerror", lambda e: problems.append(str(e)))
    made.on(
        "request",
        lambda r: problems.append(r.url) if not r.url.startswith(("http://127.0.0.1", "blob:", "data:")) else None,
    )
    made.set_default_timeout(PATIENCE_MS)
    yield made
    context.close()
    assert problems == []
