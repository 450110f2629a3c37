"""The rest of the music behind the kit, later by some milliseconds, in what the page plays."""

import re

import numpy as np
import pytest
import soundfile
from playwright.sync_api import expect

from tests.browser.conftest import loaded
from tests.browser.tap import Tap, listen, loop, plays_on, ready, tappable
from tests.browser.test_line import LOOP_S

pytestmark = pytest.mark.browser

SLOW = """() => {
  const usual = globalThis.fetch;
  globalThis.fetch = async (address, ...others) => {
    const answer = await usual(address, ...others);
    if (String(address).endsWith("/music")) await new Promise((tell) => setTimeout(tell, 5000));
    return answer;
  };
}"""

RATE = 48_000
TONE_HZ = 13_000.0


def music(to) -> None:
    """Write bursts of a high tone, three in each second and a half."""
    t = np.arange(14 * RATE) / RATE
    bursts = np.isin((t * 1000).astype(int) % 1500, np.r_[0:15, 310:325, 870:885])
    soundfile.write(to, np.repeat((0.5 * np.sin(2 * np.pi * TONE_HZ * t) * bursts)[:, None], 2, axis=1), RATE)


def part(audio: np.ndarray, low_hz: float, high_hz: float) -> np.ndarray:
    """Return a band of a loop that repeats, taken round."""
    spectrum, hz = np.fft.rfft(audio), np.fft.rfftfreq(audio.size, 1 / RATE)
    return np.fft.irfft(spectrum * ((hz > low_hz) & (hz < high_hz)), audio.size)


def later(a: np.ndarray, b: np.ndarray) -> int:
    """Return by how many samples b is later than a, both taken round."""
    lag = int(np.argmax(np.fft.irfft(np.fft.rfft(b) * np.conj(np.fft.rfft(a)), a.size)))
    return lag if lag < a.size // 2 else lag - a.size


@pytest.fixture
def untouched(address, chromium, recordings) -> str:
    """Return the address of a session in which nothing was set yet: a mix can only begin with the kit where it has no tools."""
    return loaded(chromium, address, recordings)


@pytest.mark.long
def test_later_by_5_ms(page, untouched, tmp_path):
    """Loaded on the page it is heard with the kit; typed later by 5 ms, against the drums it is, within half a millisecond; the kit stays where it was."""
    music(tmp_path / "Room Tone.wav")
    page = tappable(page)
    page.goto(f"{untouched}/load/")
    ready(page)
    page.get_by_label("backing track").set_input_files(tmp_path / "Room Tone.wav")
    expect(page.locator("body")).to_contain_text("Room Tone")
    ready(page)
    loop(page, 3.0, LOOP_S)
    listen(page)
    tap = Tap(page)
    before = tap.record(LOOP_S)
    field = page.locator("label", has_text="later by").locator("input")
    field.fill("5")
    field.press("Enter")
    expect(page.locator("#message")).not_to_be_empty(timeout=60_000)
    ready(page)
    ready(page)
    plays_on(page, 2.0)
    after = tap.record(LOOP_S)
    drums = later(part(before, 30, 3000), part(after, 30, 3000))
    bursts = [np.abs(part(x, TONE_HZ - 400, TONE_HZ + 400)) for x in (before, after)]
    assert (later(*bursts) - drums) / RATE * 1000 == pytest.approx(5.0, abs=0.5)
    page.keyboard.press("Space")
    page.goto(f"{untouched}/blend/")
    against = page.get_by_label("the kit against the rest of the music")
    expect(against).to_contain_text(re.compile("busiest part|verse"))  # sections may have been named by then
    page.evaluate(SLOW)  # what changes while it is measured counts
    against.get_by_role("button", name="as loud as the kit").click()
    expect(page.locator("#message")).to_contain_text("as loud as the kit")
    behind = against.get_by_role("group", name="behind the cymbals").get_by_role("button", name="8 ms")
    behind.click()
    expect(page.locator("#message")).to_contain_text("8 ms behind the cymbals")
    expect(behind).to_have_attribute("aria-pressed", "true", timeout=20_000)
    ready(page)
    page.get_by_role("button", name="the kit first").click()
    expect(page.locator("#message")).to_contain_text("The kit first: furthest octave")
