"""A compressor dialled in by ear and by keys alone, heard in what the page plays."""

import re

import pytest
from playwright.sync_api import expect

from tests.browser.tap import Tap, loop, plays_on, ready, tappable
from tests.browser.test_line import LOOP_S
from tests.browser.test_rows import level_db

pytestmark = pytest.mark.browser


class TestDial:
    """Exaggerate, set the times, back off."""

    @pytest.mark.long
    def test_by_keys_alone(self, page, session):
        """d begins, figures choose, Enter goes on to the last stage and keeps one Move; a version that was only tried leaves nothing."""
        page = tappable(page)
        page.goto(f"{session}/punch/?of=sn-top")
        ready(page)
        loop(page, 3.0, LOOP_S)
        page.locator("h1").click()
        page.keyboard.press("d")
        dial = page.get_by_role("region", name="dial in the compressor")
        expect(dial).to_contain_text("1 of 4: How much of the stroke passes?")
        expect(dial.get_by_role("radio").nth(2)).to_contain_text(re.compile(r"30 ms.*takes 10\.0 dB"))
        plays_on(page, 0.7)
        tap = Tap(page)
        page.keyboard.press("1")
        expect(dial.get_by_role("radio").nth(0)).to_have_attribute("aria-checked", "true")
        ready(page)
        plays_on(page, 0.8)
        first = tap.record(LOOP_S)
        page.keyboard.press("3")
        ready(page)
        plays_on(page, 0.8)
        third = tap.record(LOOP_S)
        assert abs(level_db(first) - level_db(third)) < 2.5  # at equal loudness, so that the shape is heard
        page.keyboard.press("Escape")
        expect(dial.get_by_role("radio").first).to_be_hidden()
        expect(page.locator("#undo")).not_to_have_attribute("title", re.compile("dialled in"))

        page.keyboard.press("d")
        for stage, keys in enumerate((("3", "Enter"), ("n", "2", "Enter"), ("3", "Enter"), ("2", "Enter")), 1):
            expect(dial).to_contain_text(f"{stage} of 4:")
            for key in keys:
                expect(dial.locator(".old")).to_have_count(0)
                page.keyboard.press(key)
        expect(page.locator("#message")).to_contain_text(re.compile(r"dialled in, 4:1 at −.* 30 ms, 2\d\d ms"))
        ready(page)
        expect(page.locator(".word", has_text="compressor")).not_to_contain_text("off")
        page.keyboard.press("Space")
        page.locator("#undo").click()
        expect(page.locator(".word", has_text="compressor")).to_contain_text("off")
