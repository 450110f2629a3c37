"""Rows of tools worked on in the page, and heard in what it plays."""

import re

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.browser.tap import Tap, listen, loop, ready, tappable
from tests.browser.test_line import LOOP_S

NAME_SECTIONS = """async (id) => {
  const { get, post } = await import("/static/js/lib/server.js");
  const { version, bars } = await get(`/s/${id}/blend/data`);
  const sections = [{ name: "verse", bar: 0 }, { name: "chorus", bar: 2 }];
  await post(`/s/${id}/moves`, { version, changes: { sections }, step: "timing", title: "sections" });
  return bars.lines_s[2];
}"""


def level_db(audio: np.ndarray) -> float:
    return 20 * np.log10(float(np.sqrt(np.mean(np.square(audio)))) + 1e-9)


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
    expect(page.locator("#message")).to_contain_text(value.replace("-", "−"))


def choose(page: Page, group: str, mic: str) -> None:
    """Choose a mic in its group."""
    page.get_by_role("button", name=f"mics of {group}").click()
    page.get_by_role("button", name=f"mic {mic}").click()


LATE = """(session) => {
  const usual = globalThis.fetch;
  globalThis.fetch = async (address, ...others) => {
    const answer = await usual(address, ...others);
    if (String(address).endsWith("/data") && globalThis.late === undefined) {
      globalThis.late = false;
      await new Promise((tell) => setTimeout(tell, 4000));
      globalThis.late = true;
    }
    return answer;
  };
  window.dispatchEvent(new CustomEvent("job-ended", { detail: { kind: "whole", session } }));
}"""  # asks for the page's data, whose answer comes late


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

    @pytest.mark.long
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
        page.get_by_role("button", name="solo", exact=True).click()
        expect(page.locator("#listening")).to_contain_text("solo: overheads")
        loop(page, 3.0, LOOP_S)
        listen(page)
        tap = Tap(page)
        before = level_db(tap.record(LOOP_S))
        page.locator("#tool-on").click()
        # Over a loop that is repeated to the last bit, so that a part of it tells: what lies between the strikes stays.
        assert any(level_db(tap.record(LOOP_S)) < before - 0.5 for _ in range(8))
        expect(page.get_by_label("each hit's peak before and after the tool")).to_be_visible()
        expect(page.locator(".word").first).to_contain_text(re.compile(r"hits −[1-9]"))
        page.keyboard.press("Space")
        page.get_by_role("button", name="clear", exact=True).click()
        expect(page.locator("#listening")).to_be_hidden()

    def test_a_scene_lifts_the_path_in_the_chorus(self, page, session):
        """Set in the scene, heard from the bar line on and not before it, without a click; a scene comes and goes by the page."""
        page = tappable(page)
        page.goto(f"{session}/blend/")
        ready(page)
        line_s = page.evaluate(NAME_SECTIONS, session.rpartition("/")[2])
        page.reload()
        ready(page)
        page.get_by_label("add a path").select_option("empty")
        choose(page, "snare", "SN top")
        expect(page.get_by_label("send to path of SN top")).to_be_visible()
        page.get_by_label("name of a new scene").fill("Lift")
        page.get_by_role("button", name="add a scene").click()
        page.get_by_role("button", name="Lift in chorus").click()
        expect(page.get_by_role("button", name="Lift in chorus")).to_have_attribute("aria-pressed", "true")
        send = page.get_by_label("send to path of SN top")
        send.fill("6")
        expect(page.locator("#message")).to_contain_text("Lift: SN top: send to path +6.0")
        ready(page)
        cell = page.get_by_role("spinbutton", name="level of path in chorus")
        cell.focus()
        for key in ("1", "2", "Enter"):
            page.keyboard.press(key)
        expect(page.locator("#message")).to_contain_text("chorus: path: level +12.0")
        expect(cell).to_have_class(re.compile("held"))
        expect(page.get_by_role("spinbutton", name="level of path in verse")).not_to_have_class(re.compile("held"))
        expect(page.get_by_text("path: level +12.0").first).to_be_visible()
        page.get_by_role("button", name="path path").click()
        page.get_by_role("button", name="solo", exact=True).click()
        expect(page.locator("#listening")).to_contain_text("solo: path")

        heard = [self.played(page, line_s + from_s, 1.5) for from_s in (-2.0, 0.5, -0.75)]
        levels = [level_db(audio) for audio in heard]
        assert levels[0] < -90.0
        assert levels[0] < levels[2] < levels[1]
        assert levels[1] > levels[0] + 30.0
        steps = [float(np.abs(np.diff(audio)).max()) for audio in heard]
        assert steps[2] < 1.2 * steps[1]
        for step in ("tone", "lineup", "blend"):  # it is carried along, also past pages that have no scenes
            page.goto(f"{session}/{step}/")
            ready(page)
            chosen = page.get_by_role("button", name="Lift", exact=True)
            if step != "lineup":
                expect(chosen).to_have_attribute("aria-pressed", "true")
        page.get_by_role("button", name="remove the scene").click()
        expect(page.get_by_role("button", name="Lift in chorus")).to_have_count(0)
        page.get_by_role("button", name="path path").click()
        page.get_by_role("button", name="remove path").click()
        expect(page.get_by_role("spinbutton", name="level of path", exact=True)).to_have_count(0)

    @pytest.mark.long
    def test_a_scene_stays_chosen(self, page, session):
        """Also where what was asked for before it was chosen is answered afterwards: what is set then is set in the scene."""
        page.goto(f"{session}/blend/")
        ready(page)
        page.get_by_label("name of a new scene").fill("Lift")
        page.get_by_role("button", name="add a scene").click()
        chosen, song = (page.get_by_role("button", name=name, exact=True) for name in ("Lift", "the whole song"))
        expect(chosen).to_have_attribute("aria-pressed", "true")
        song.click()
        ready(page)
        page.evaluate(LATE, int(session.rpartition("/")[2]))
        chosen.click()
        page.wait_for_function("() => globalThis.late")
        page.wait_for_timeout(300)
        expect(chosen).to_have_attribute("aria-pressed", "true")

    def test_a_level_in_its_cell(self, page, session):
        """Dragged up it is louder at once and one Move; stepped by keys; no number is refused; a section's head moves all groups."""
        page.goto(f"{session}/blend/")
        ready(page)
        page.evaluate(NAME_SECTIONS, session.rpartition("/")[2])
        page.reload()
        ready(page)
        cell = page.get_by_role("spinbutton", name="level of snare", exact=True)
        box = cell.bounding_box()
        page.mouse.move(box["x"] + 20, box["y"] + 10)
        page.mouse.down()
        page.mouse.move(box["x"] + 20, box["y"] - 20, steps=5)
        page.mouse.up()
        expect(page.locator("#message")).to_contain_text("snare: level +3.0")
        ready(page)
        cell.focus()
        for _ in range(6):
            page.keyboard.press("ArrowDown")
        expect(page.locator("#message")).to_contain_text("snare: level 0.0")
        ready(page)
        page.keyboard.press("Control+z")  # six steps are one Move
        expect(cell).to_have_attribute("aria-valuenow", "3")
        cell.focus()
        page.keyboard.press("ArrowDown")
        expect(page.locator("#message")).to_contain_text("snare: level +2.5")
        ready(page)
        cell.dblclick()
        page.keyboard.type("loud")
        page.keyboard.press("Enter")
        expect(page.locator("#message")).to_contain_text("expected a number of dB")
        expect(cell).to_have_attribute("aria-valuenow", "2.5")
        page.get_by_role("button", name="all groups louder in chorus").click()
        expect(page.locator("#message")).to_contain_text("chorus: all groups +0.5 dB")
        ready(page)
        expect(page.get_by_role("spinbutton", name="level of snare in chorus")).to_have_attribute("aria-valuenow", "3")
        expect(page.get_by_role("spinbutton", name="level of snare in verse")).to_have_attribute("aria-valuenow", "2.5")
        for _ in range(4):
            page.locator("#undo").click()
            ready(page)

    def played(self, page: Page, start_s: float, seconds: float) -> np.ndarray:
        """Return what is heard of a loop, more than once through."""
        loop(page, start_s, seconds)
        listen(page)
        audio = Tap(page).record(2 * seconds)
        page.locator("#play").click()
        return audio

    @pytest.mark.long
    def test_a_crushed_path(self, page, session):
        """Added by its recipe, sent to, muted by the row of its name; it leaves with all that was sent."""
        page.goto(f"{session}/blend/")
        ready(page)
        page.get_by_label("add a path").select_option("crush")
        choose(page, "snare", "SN top")
        send = page.get_by_label("send to CRUSH of SN top")
        expect(send).to_be_visible()
        send.fill("-3")
        expect(page.locator("#message")).to_contain_text("send to CRUSH −3.0")
        ready(page)
        page.get_by_role("button", name="path CRUSH").click()
        expect(page.locator(".word").first).to_contain_text("hits")
        page.locator("h1").click()
        page.keyboard.press("r")
        raise_ = page.get_by_role("region", name="raise the path until it is missed")
        expect(raise_.get_by_role("radio")).to_have_count(5)
        expect(raise_.get_by_role("radio").nth(4)).to_contain_text(re.compile(r"−8 dB.*denser.*% of it left"))
        page.keyboard.press("4")
        page.keyboard.press("Enter")
        expect(page.locator("#message")).to_contain_text("crush blended in: −12 dB")
        ready(page)
        cell = page.get_by_role("spinbutton", name="level of CRUSH", exact=True)
        expect(cell).to_have_attribute("aria-valuenow", "-12")
        page.keyboard.press("Space")
        page.get_by_role("button", name="remove CRUSH").click()
        expect(page.get_by_role("spinbutton", name="level of CRUSH", exact=True)).to_have_count(0)
