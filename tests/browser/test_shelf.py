"""The shelf worked on in the page, and heard in what it plays: a hit kept, a weak one replaced, hits under back-beats alone."""

import re

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.tap import ready

PEAKS = """async ({ what, times }) => {
  const { audio } = await import("/static/js/lib/server.js");
  const id = location.pathname.split("/")[2];
  const out = [];
  for (const t of times) {
    const start = Math.round((t - 0.01) * 48000);
    const question = { step: "replace", what, version: "after", start, stop: start + 4800, chunk: true };
    const sound = await audio(`/s/${id}/audition`, question);
    out.push(Math.max(...sound.left.map(Math.abs)));
  }
  return out;
}"""
DATA = """async () => {
  const { get } = await import("/static/js/lib/server.js");
  return (await get(location.pathname + "data?of=snare")).chart;
}"""


def played(page: Page, what: str, times: list[float]) -> np.ndarray:
    """Return the peaks that are played right after some times, in dB."""
    return 20 * np.log10(np.array(page.evaluate(PEAKS, {"what": what, "times": times})) + 1e-9)


@pytest.mark.long
def test_a_weak_hit_is_replaced(page, session):
    """A clean hit is kept and heard; the weakest is found by the keyboard, replaced as strong as the others, and put back."""
    page.goto(f"{session}/replace/?of=snare")
    ready(page)
    page.get_by_role("button", name="keep clean ones").click()
    expect(page.locator("#message")).to_contain_text(re.compile(r"Kept \d+ hits of snare"))
    page.get_by_role("button", name=re.compile("^hear snare at")).first.click()
    hits = page.evaluate(DATA)["hits"]
    weak = min(hits, key=lambda h: h[1])
    canvas = page.get_by_label(re.compile("every hit of the piece"))
    canvas.focus()
    for _ in range([h[0] for h in hits].index(weak[0]) + 1):
        page.keyboard.press("ArrowRight")
    expect(page.get_by_text(f"Chosen: {weak[0]:.3f} s.")).to_be_visible()
    before = played(page, "alone:sn-top", [weak[0]])[0]
    page.get_by_label("put there", exact=True).locator("visible=true").select_option(index=1)
    page.get_by_label("in which mics").select_option("own")
    page.get_by_role("button", name="replace it").click()
    expect(page.locator("#message")).to_contain_text("replaced by")
    after = played(page, "alone:sn-top", [weak[0]])[0]
    usual = float(np.median([h[1] for h in hits if not h[3]]))
    assert after - before > 0.7 * (usual - weak[1])
    page.get_by_role("button", name="as it was played", exact=True).click()
    expect(page.locator("#message")).to_contain_text("as it was played")
    assert abs(played(page, "alone:sn-top", [weak[0]])[0] - before) < 0.1


def test_hits_under_back_beats(page, session):
    """Laid under all, a line drawn up through the hits leaves the soft ones as they are; what is played shows it."""
    page.goto(f"{session}/replace/?of=snare")
    ready(page)
    if not page.get_by_role("button", name=re.compile("^hear snare at")).count():
        page.get_by_role("button", name="keep clean ones").click()
        expect(page.locator("#message")).to_contain_text("Kept")
    page.get_by_role("button", name=re.compile("^lay all of them under its hits")).click()
    expect(page.locator("#message")).to_contain_text(re.compile(r"hits of the shelf under \d+ of snare"))
    expect(page.locator("#low-end")).to_contain_text("by its layers")
    chart = page.evaluate(DATA)
    levels = [h[1] for h in chart["hits"]]
    box = page.get_by_label(re.compile("every hit of the piece")).bounding_box()
    low, high = min(*levels, -40) - 2, max(*levels, -6) + 3
    top, bottom = box["y"] + 26, box["y"] + box["height"] - 34
    at = lambda db: bottom - (db - low) / (high - low) * (bottom - top)
    middle = box["x"] + 0.6 * box["width"]
    page.mouse.move(middle, bottom)
    page.mouse.down()
    page.mouse.move(middle, at(chart["usual_db"] - 9.0), steps=5)
    page.mouse.up()
    expect(page.locator("#message")).to_contain_text("strikes from")
    expect(page.get_by_text(re.compile(r"opened by \d+ of \d+ hits"))).to_be_visible()
    least = page.evaluate(DATA)["made"][0]["least_db"]
    assert abs(least + 9.0) < 1.5
    strong = [h for h in chart["hits"] if h[1] > chart["usual_db"] + least + 1][:3]
    soft = [h for h in chart["hits"] if h[1] < chart["usual_db"] + least - 1][:3]
    assert (played(page, "alone:snare-hits", [h[0] for h in strong]) > -60).all()
    assert not soft or (played(page, "alone:snare-hits", [h[0] for h in soft]) < -100).all()
    page.get_by_label("whose tools it goes through").select_option("sn-top")
    expect(page.locator("#message")).to_contain_text("through SN top")
    page.get_by_role("button", name="take away").click()
    expect(page.locator("#message")).to_contain_text("taken away")
