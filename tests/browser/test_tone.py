"""Tone worked on in its picture: a ring that is pointed at, a place that is swept, a tom's filters carried to the floor tom."""

import re
from pathlib import Path

import numpy as np
import pytest
import soundfile
from playwright.sync_api import Page, expect

from tests.browser.conftest import RING_HZ, loaded
from tests.browser.tap import Tap, listen, loop, ready, tappable
from tests.browser.test_line import LOOP_S
from tests.kits import small_kit

pytestmark = pytest.mark.browser

CHART = "document.querySelector('[x-data=tone]')._x_dataStack[0]"
PLACE = f"(hz) => {{ const t = {CHART}; return [t.axis().to(hz), t.sheet.top + 40] }}"
NAMED = f"(word) => {{ const m = {CHART}.named.find((each) => each.words.startsWith(word)); return [m.x + 10, m.y] }}"


def at(page: Page, code: str, asked) -> tuple[float, float]:
    """Return a place of the chart in pixels of the window."""
    x, y = page.evaluate(code, asked)
    box = page.locator("canvas").first.bounding_box()
    return box["x"] + x, box["y"] + y


def last_filter(page: Page) -> tuple[float, float, float]:
    """Return frequency, gain and Q of the last filter of the table."""
    labels = [f"{name} of filter" for name in ("frequency", "gain", "Q")]
    return tuple(float(page.locator(f"input[aria-label^='{each}']:visible").last.input_value()) for each in labels)


def tone_level_db(audio: np.ndarray, hz: float, rate: int = 48_000) -> float:
    """Return the level of a recording around a frequency."""
    power = np.abs(np.fft.rfft(audio)) ** 2
    f = np.fft.rfftfreq(audio.size, 1 / rate)
    return 10 * np.log10(power[(f > 0.97 * hz) & (f < 1.03 * hz)].sum() + 1e-12)


def low_frames_db(audio: np.ndarray, rate: int = 48_000) -> np.ndarray:
    """Return the level below 110 Hz of frames of 85 ms, one every 5 ms."""
    frames = np.lib.stride_tricks.sliding_window_view(audio, 4096)[::256] * np.hanning(4096)
    low = np.fft.rfftfreq(4096, 1 / rate) < 110.0
    return 10 * np.log10(np.sum(np.abs(np.fft.rfft(frames, axis=1)[:, low]) ** 2, axis=1) + 1e-9)


def heard_alone(page: Page) -> Tap:
    """Play a short loop of the chosen drum alone."""
    page.get_by_role("button", name="alone").click()
    loop(page, 3.0, LOOP_S)
    listen(page)
    return Tap(page)


def risen_db(before: np.ndarray, after: np.ndarray) -> float:
    """Return by how much the bottom of the loud moments of a loop rose against that of the soft ones; each recording may begin anywhere in the loop."""
    alike = np.fft.irfft(np.fft.rfft(before) * np.conj(np.fft.rfft(after)), before.size)
    was, now = low_frames_db(before), low_frames_db(np.roll(after, int(np.argmax(alike))))
    loud, soft = was >= np.quantile(was, 0.95), was <= np.quantile(was, 0.3)
    return float(np.median((now - was)[loud]) - np.median((now - was)[soft]))


def two_toms(to: Path) -> Path:
    """Write a kit of five mics whose fills go over both toms."""
    drop = ("Kik sub", "KD out", "Snr btm", "Talkback", "Rm L", "Rm R", "Rm mono", "Ride", "T2", "HH", "OH R")
    kit = small_kit(seed=997, style="straight", bpm=116.0, bars=5, drop=drop)
    to.mkdir()
    for name, audio in kit.audio.items():
        soundfile.write(to / f"{name}.wav", audio, kit.sample_rate_hz, subtype="PCM_24")
    return to


class TestInThePicture:
    """What the hand does in the spectrum."""

    def test_a_ring_is_notched_by_pointing(self, page, session):
        """Its name is clicked: a narrow cut stands at the ring's own frequency, told with its height; undo takes it out."""
        page.goto(f"{session}/tone/?of=sn-top")
        ready(page)
        page.wait_for_function(f"() => {CHART}.named.some((m) => m.words.startsWith('ring'))")
        page.mouse.click(*at(page, NAMED, "ring"))
        expect(page.locator("#message")).to_contain_text(re.compile(r"8\d\d Hz, .* cut by"))
        ready(page)
        hz, gain, q = last_filter(page)
        assert hz == pytest.approx(RING_HZ, rel=0.02)
        assert gain < -6.0
        assert q > 8.0
        page.locator("#undo").click()
        expect(page.locator("input[aria-label^='gain of filter']:visible")).to_have_count(0)

    def test_sweep_and_let_go(self, page, session):
        """While a place is held it is heard louder there; let go, that is gone and a cut stands near it. Escape leaves nothing."""
        page = tappable(page)
        page.goto(f"{session}/tone/?of=sn-top")
        ready(page)
        tap = heard_alone(page)
        before = tone_level_db(tap.record(LOOP_S), 440.0)
        x, y = at(page, PLACE, 440.0)
        page.mouse.move(x + 60, y)
        page.mouse.down()
        page.mouse.move(x, y, steps=4)
        assert any(tone_level_db(tap.record(LOOP_S), 440.0) > before + 4.0 for _ in range(6))
        page.mouse.up()
        expect(page.locator("#message")).to_contain_text("cut by")
        ready(page)
        hz, gain, _ = last_filter(page)
        assert hz == pytest.approx(440.0, rel=0.1)
        assert gain <= -2.0
        assert any(tone_level_db(tap.record(LOOP_S), 440.0) < before + 1.0 for _ in range(6))
        page.keyboard.press("Space")
        page.locator("#undo").click()
        expect(page.locator("input[aria-label^='gain of filter']:visible")).to_have_count(0)
        page.locator("canvas").first.focus()
        for key in ("w", "ArrowRight", "Escape"):
            page.keyboard.press(key)
        expect(page.locator("input[aria-label^='gain of filter']:visible")).to_have_count(0)

    @pytest.mark.long
    def test_a_toms_filters_on_the_floor_tom(self, page, chromium, address, tmp_path):
        """Copied, what belongs to its pitch is retuned by the measured fundamentals, and its stick stays where it was."""
        session = loaded(chromium, address, two_toms(tmp_path / "Two Toms"))
        page.goto(f"{session}/tone/?of=t1")
        ready(page)
        page.get_by_role("button", name=re.compile("^do it")).nth(0).wait_for()
        note = page.locator("li, article, section").filter(has_text=re.compile(r"T1: \d filter")).last
        note.get_by_role("button", name="do it").click()
        expect(page.locator("#message")).to_contain_text("T1:")
        ready(page)
        page.get_by_label("copy to another strip").select_option("mic:ft")
        expect(page.locator("#message")).to_contain_text(re.compile(r"FT retuned by 0\.[4-9]"))
        ready(page)
        mine = [
            float(each.input_value()) for each in page.locator("input[aria-label^='frequency of filter']:visible").all()
        ]
        page.goto(f"{session}/tone/?of=ft")
        ready(page)
        theirs = [
            float(each.input_value()) for each in page.locator("input[aria-label^='frequency of filter']:visible").all()
        ]
        ratios = [b / a for a, b in zip(mine, theirs, strict=True)]
        assert max(ratios) == 1.0
        assert 0.4 < min(ratios) < 0.9
        page.locator("#undo").click()
        expect(page.locator("input[aria-label^='frequency of filter']:visible")).to_have_count(0)
        page.locator("#undo").click()
        expect(page.locator("#undo")).to_have_attribute("title", re.compile("^(?!T1)"))

    @pytest.mark.long
    def test_a_low_band_opens_at_kicks_only(self, page, session):
        """A low shelf that moves: in what is played the bottom rises by 3 dB and more where the kick sounds, and stays where it does not."""
        page = tappable(page)
        page.goto(f"{session}/tone/?of=kd-in")
        ready(page)
        page.get_by_role("button", name="+ low-shelf").click()
        expect(page.locator("#message")).to_contain_text("low-shelf added")
        ready(page)
        for label, value in (("frequency of filter 1", "150"), ("gain of filter 1", "0")):
            page.get_by_label(label).fill(value)
            page.get_by_label(label).press("Enter")
            ready(page)
        tap = heard_alone(page)
        before = tap.record(LOOP_S)
        page.get_by_role("button", name="moves", exact=True).click()
        expect(page.locator("#message")).to_contain_text("moves by up to −6 dB")
        ready(page)
        page.get_by_label("range of filter 1").fill("12")
        page.get_by_label("range of filter 1").press("Enter")
        expect(page.locator("#message")).to_contain_text("range db 12")
        ready(page)
        risen = risen_db(before, tap.record(LOOP_S))
        assert risen > 3.0
        page.keyboard.press("Space")
        for _ in range(5):
            page.locator("#undo").click()
            ready(page)
        expect(page.locator("input[aria-label^='gain of filter']:visible")).to_have_count(0)
