"""The real server as a child process, and headless Chromium."""

import dataclasses
import os
import re
import socket
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest
import soundfile
from playwright.sync_api import expect, sync_playwright

from arkund.core.demo.recording import varied_kit
from tests.kits import small_kit

RING_HZ = 812.0
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
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    data = tmp_path_factory.mktemp("served")
    command = [sys.executable, "-c", "from arkund.studio.cli.main import main; main()", "serve", "--port", str(port)]
    server = subprocess.Popen(command, env=os.environ | {"ARKUND_DATA": str(data), "ARKUND_BACKGROUND": "1"})
    at = f"http://127.0.0.1:{port}"
    for _ in range(150):
        try:
            urllib.request.urlopen(at, timeout=1).close()
            break
        except OSError:
            time.sleep(0.1)
    yield at
    server.terminate()
    server.wait(10)


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
    page.set_default_timeout(60_000)
    page.goto(address)
    page.get_by_label("tempo in BPM").fill("116")
    page.locator("#folder").set_input_files(folder)
    page.wait_for_url(re.compile(r"/s/\d+/load/"), timeout=60_000)
    expect(page.get_by_role("heading", name="What did each mic really hear?")).to_be_visible()
    found = page.url.rsplit("/load/", 1)[0]
    context.close()
    return found


@pytest.fixture(scope="session")
def session(address, chromium, recordings) -> str:
    """Return the address of the small kit's session."""
    return loaded(chromium, address, recordings)


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
    made.set_default_timeout(20_000)
    yield made
    context.close()
    assert problems == []
