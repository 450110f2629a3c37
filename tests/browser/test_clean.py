"""Cleaning worked on in the page: what a threshold would lose, a tom cut by hits, its depth, and an edge by hand."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.tap import ready
from tests.browser.test_rows import field


def opened(page: Page, session: str, mic: str) -> None:
    page.goto(f"{session}/clean/?of={mic}")
    ready(page)
    expect(page.get_by_role("group", name="what is done about the bleed")).to_be_visible()


def words(page: Page) -> str:
    return page.locator("#margin").inner_text()


class TestClean:
    """What an engineer does about the bleed in a mic."""

    def test_a_threshold_dragged_too_high_loses_hits(self, page, session):
        """While it is dragged, the hits that it would lose and those that it would open for are counted."""
        opened(page, session, "sn-top")
        page.get_by_role("button", name="gated", exact=True).click()
        expect(page.locator("#message")).to_contain_text("SN top: gated")
        expect(page.locator("#cleaned")).to_contain_text("kept")
        chart = page.get_by_label(re.compile("own hits against others"))
        chart.scroll_into_view_if_needed()
        box = chart.bounding_box()
        left, right = box["x"] + 92, box["x"] + box["width"] - 16
        at = lambda db: left + (db + 70.0) / 70.0 * (right - left)
        middle = box["y"] + box["height"] / 2
        page.mouse.move(at(-40.0), middle)
        page.mouse.down()
        page.mouse.move(at(-3.0), middle, steps=4)
        expect(page.locator("#margin")).to_contain_text(re.compile(r"would lose (\d+) of \1 own hits"))
        page.mouse.move(at(-69.0), middle, steps=4)
        expect(page.locator("#margin")).to_contain_text("would lose 0 of")
        assert int(re.search(r"open for (\d+) of others", words(page))[1]) > 0
        page.mouse.up()
        expect(page.locator("#message")).to_contain_text("gate threshold")
        page.get_by_role("button", name="left as it is", exact=True).click()
        expect(page.locator("#cleaned")).to_have_text("")

    def test_a_tom_is_cut_by_hits(self, page, session):
        """It is down between its hits, every hit is kept; deeper by a number, longer by a dragged edge, and taken back."""
        opened(page, session, "t1")
        page.get_by_role("button", name="cut by hits", exact=True).click()
        expect(page.locator("#cleaned")).to_contain_text(re.compile(r"bleed −24\.0 dB · kept (\d+) of \1 own hits"))
        page.locator(".word").filter(has_text="regions").click()
        field(page, "down between hits", "36")
        expect(page.locator("#cleaned")).to_contain_text("bleed −36.0 dB")
        page.get_by_role("button", name="hit ›").click()
        expect(page.get_by_text(re.compile(r"region 1 of \d+"))).to_be_visible()
        ends = page.get_by_label("region ends, s")
        before = float(ends.input_value())
        strip = page.get_by_label(re.compile("this mic over the song"))
        strip.scroll_into_view_if_needed()
        box = strip.bounding_box()
        begins = float(page.get_by_label("region begins, s").input_value())
        # The window is two seconds around the hit, from the chart's left rim to its right one.
        start = max(begins - 1.0, 0.0)
        place = lambda time: box["x"] + 56 + (time - start) / 2.0 * (box["width"] - 56 - 12)
        page.mouse.move(place(before), box["y"] + 100)
        page.mouse.down()
        page.mouse.move(place(before - 0.05), box["y"] + 100, steps=3)
        page.mouse.up()
        expect(page.locator("#message")).to_contain_text(re.compile(r"region 1 from .* to "))
        wanted = [f"{before - 0.05 + k / 1000:.3f}" for k in range(-20, 21)]  # a pixel is three milliseconds and more
        expect(ends).to_have_value(re.compile("|".join(map(re.escape, wanted))))
        page.get_by_role("button", name="remove this region").click()
        expect(page.locator("#cleaned")).not_to_contain_text(re.compile(r"kept (\d+) of \1 own"))
        for _ in range(4):
            page.get_by_role("button", name="undo").click()
            ready(page)
        expect(page.locator("#cleaned")).to_have_text("")

    @pytest.mark.long
    def test_the_whole_kit_to_a_look(self, page, session):
        """One switch for all shells, undone as one."""
        opened(page, session, "t1")
        page.get_by_role("button", name="tight", exact=True).click()
        expect(page.locator("#message")).to_contain_text("Cleaned: tight")
        expect(page.locator("#cleaned")).to_contain_text("kept")
        page.get_by_role("button", name="open", exact=True).click()
        expect(page.locator("#cleaned")).to_have_text("")
        for _ in range(2):
            page.get_by_role("button", name="undo").click()
            ready(page)
        expect(page.get_by_role("button", name="some life", exact=True)).to_have_attribute("aria-pressed", "true")
