"""Rows of tools worked on in the page, and heard in what it plays."""

import re

import numpy as np
from playwright.sync_api import Page, expect

from tests.browser.tap import Tap, plays_on, tappable
from tests.browser.test_line import LOOP_S


def level_db(audio: np.ndarray) -> float:
    return 20 * np.log10(float(np.sqrt(np.mean(np.square(audio)))) + 1e-9)


def ready(page: Page) -> None:
    page.wait_for_function(
        "() => !document.body.innerText.includes('Measuring') && !document.querySelector('section[aria-busy=true]')"
    )


def add(page: Page, kind: str, done: str) -> None:
    """Add a tool to the row that is shown, and switch it on."""
    page.get_by_label("add a tool").select_option(kind)
    expect(page.locator("#message")).to_contain_text(f"{kind} added")
    word = page.locator(".word").filter(has_text=done).first
    expect(word).to_be_visible()
    word.click()


def field(page: Page, name: str, value: str) -> None:
    box = page.get_by_label(name, exact=True).locator("visible=true").last
    box.fill(value)
    box.press("Enter")
    expect(page.locator("#message")).to_contain_text(value)


class TestRows:
    """What an engineer does with a row."""

    def test_tone_after_compression(self, page, session):
        """A tool is moved by the keyboard; what follows is in the order that is shown, and can be taken back."""
        page.goto(f"{session}/tone/?of=sn-top")
        ready(page)
        words = lambda: [each.split("\n")[0].split(" ")[0] for each in page.locator(".word").all_inner_texts()]
        assert words() == ["gate", "tone", "shaper", "compressor"]
        page.locator(".word").nth(1).focus()
        page.keyboard.press("Alt+ArrowRight")
        expect(page.locator(".word").nth(2)).to_contain_text("tone")
        page.locator(".word").nth(2).focus()
        page.keyboard.press("Alt+ArrowRight")
        expect(page.locator(".word").nth(3)).to_contain_text("tone")
        assert words() == ["gate", "shaper", "compressor", "tone"]
        page.locator("#undo").click()
        expect(page.locator(".word").nth(2)).to_contain_text("tone")

    def test_the_snare_tucked_into_the_overheads(self, page, session):
        """A compressor in the overheads' group listens to the strikes of the snare; the group alone is heard to fall at them."""
        page = tappable(page)
        page.goto(f"{session}/blend/?of=group:overheads")
        ready(page)
        add(page, "compressor", "compressor")
        page.locator("#tool-key").select_option("hits:snare")
        expect(page.locator("#message")).to_contain_text("listens to hits:snare")
        for name, value in (("threshold", "-50"), ("ratio", "20"), ("attack", "2")):
            field(page, name, value)
        page.locator("tr", has_text="group overheads").get_by_role("button", name="solo").click()
        expect(page.locator("#message")).to_contain_text("solo on")
        for number, value in ((0, "3"), (1, "2")):
            page.locator('[aria-label="listening bar"] input[type=number]').nth(number).fill(value)
            page.locator('[aria-label="listening bar"] input[type=number]').nth(number).press("Enter")
        page.locator("#play").click()
        plays_on(page, 0.7)
        tap = Tap(page)
        before = level_db(tap.record(LOOP_S))
        page.locator("#tool-on").click()
        # Over a loop that is repeated to the last bit, so that a part of it tells: what lies between the strikes stays.
        assert any(level_db(tap.record(LOOP_S)) < before - 0.5 for _ in range(8))
        expect(page.locator(".word").first).to_contain_text(re.compile(r"hits −[1-9]"), timeout=10_000)
        page.keyboard.press("Space")
        page.locator("tr", has_text="group overheads").get_by_role("button", name="solo").click()
        expect(page.locator("#message")).to_contain_text("solo off")

    def test_a_crushed_path(self, page, session):
        """Added by its recipe, sent to, muted by the row of its name; it leaves with all that was sent."""
        page.goto(f"{session}/blend/")
        ready(page)
        page.get_by_label("add a path").select_option("crush")
        send = page.get_by_label("send to CRUSH of SN top")
        expect(send).to_be_visible()
        send.fill("-3")
        send.dispatch_event("change")
        expect(page.locator("#message")).to_contain_text("send to CRUSH −3.0")
        row = page.locator("tr", has_text="path CRUSH")
        row.get_by_role("button", name="path CRUSH").click()
        expect(page.locator(".word").first).to_contain_text("hits")
        row.get_by_role("button", name="remove").click()
        expect(page.get_by_label("send to CRUSH of SN top")).to_have_count(0)
