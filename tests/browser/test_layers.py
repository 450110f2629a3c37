"""A made sound under the kick: laid, read by band, made longer, turned over, taken away."""

import re

import pytest
from playwright.sync_api import expect

from tests.browser.tap import ready
from tests.browser.test_rows import field


def by_layers_db(page) -> float:
    said = page.locator("#low-end").inner_text()
    return float(re.search(r"([+−]?[\d.]+) dB by its layers", said)[1].replace("−", "-"))


def test_a_sine_under_the_kick(page, session):
    """What it adds to the low end is said, follows its level and its polarity, and goes with it."""
    page.goto(f"{session}/replace/?of=kick")
    ready(page)
    expect(page.locator("#low-end")).to_contain_text("carries it")
    page.get_by_role("button", name="lay a sine under it").click()
    expect(page.locator("#message")).to_contain_text(
        re.compile(r"A sine at [\d.]+ Hz \([A-G]#?\d\) under \d+ hits of kick")
    )
    expect(page.locator("#low-end")).to_contain_text("by its layers")
    field(page, "frequency", "62")
    field(page, "level of this layer, dB", "0")
    one_way = by_layers_db(page)
    field(page, "level of this layer, dB", "-50")
    expect(page.locator("#low-end")).to_contain_text(re.compile(r"[+−]?0\.[01] dB by its layers"))
    field(page, "level of this layer, dB", "0")
    expect(page.locator("#low-end")).not_to_contain_text(re.compile(r"[+−]?0\.[01] dB by its layers"))
    said = page.locator("#low-end").inner_text()
    page.get_by_role("button", name="other polarity").click()
    expect(page.locator("#message")).to_contain_text(re.compile("polarity (flipped|as made)"))
    expect(page.locator("#low-end")).not_to_have_text(said)
    other_way = by_layers_db(page)
    assert max(one_way, other_way) > 0.5
    assert abs(one_way - other_way) > 0.1
    page.get_by_role("button", name="take away").click()
    expect(page.locator("#message")).to_contain_text("taken away")
    expect(page.locator("#low-end")).not_to_contain_text("by its layers")


@pytest.mark.long
def test_what_is_being_typed_stays(page, session):
    """New data of the page never take a half-typed value away, and Enter takes it over all the same."""
    page.goto(f"{session}/level/")
    ready(page)
    box = page.locator("input[type=number]").locator("visible=true").first
    box.fill("-11")
    number = int(session.rsplit("/", 1)[1])
    with page.expect_response(lambda r: r.url.endswith("/level/data")):
        page.evaluate("n => dispatchEvent(new CustomEvent('job-ended', {detail: {kind: 'whole', session: n}}))", number)
    page.wait_for_timeout(100)
    expect(box).to_have_value("-11")
    box.press("Enter")
    expect(page.locator("#message")).not_to_have_text("")
    page.get_by_role("button", name="undo").click()
