"""The whole job in the browser: load, propose, listen while changing, undo, print, download."""

import re
import zipfile

import pytest
from playwright.sync_api import expect

from arkund.studio.steps import STEPS
from tests.browser.conftest import ONE_CLICK_MS
from tests.browser.tap import Tap, listen, ready, tappable

pytestmark = pytest.mark.browser

LOOP_S = 2.0


def tilt(tap: Tap) -> float:
    """How far the snare's body stands above its top over the loop that the page plays, in dB; loudness matching does not move it."""
    loop = tap.record(LOOP_S)
    body, top = tap.level_db(loop, 150, 210), tap.level_db(loop, 6000, 12_000)
    assert top > -110  # something is playing
    return body - top


def comes(tap: Tap, wanted) -> bool:
    """Whether what is played comes to sound as wanted within some seconds: a render may take a while on a busy machine."""
    return any(wanted(tilt(tap)) for _ in range(8))


DRAWN = """() => {
  const canvas = document.querySelector("canvas");
  if (!canvas || canvas.width < 100) return false;
  const { data } = canvas.getContext("2d").getImageData(0, 0, canvas.width, canvas.height);
  return data.filter((value, k) => k % 4 === 3 && value > 0).length > 3000;
}"""


class TestLine:
    """One session, from files to files."""

    def undo_one_of_the_middle(self, page) -> None:
        """What was done, by keyboard: the deeds from the top down, one heard without, undone by itself, and done again."""
        deeds = page.get_by_label("what was done")
        sizes = [float(text.split()[0]) for text in deeds.locator("li:visible .fig:nth-child(3)").all_inner_texts()]
        assert 3 <= len(sizes) <= 12
        assert sizes == sorted(sizes, reverse=True)
        deeds.locator("li button").first.focus()
        for _ in range(3):
            page.keyboard.press("ArrowDown")
        third = deeds.locator('li[data-chosen="true"]')
        title = third.locator(".deed-head .text-left").inner_text()
        third.get_by_role("button", name="hear without it").click()
        page.wait_for_function("() => globalThis.arkund.player.playing")
        expect(third.get_by_role("button", name="hear without it")).to_have_attribute("aria-pressed", "true")
        page.keyboard.press("Space")
        for said, button in ((f"Undone: {title}", "do it again"), (title, "undo this one")):
            third.locator(".deed-head").focus()
            page.keyboard.press("u")
            expect(page.locator("#message")).to_contain_text(said[:60])
            expect(third.get_by_role("button", name=button)).to_be_enabled()

    def test_propose_listen_change_undo_print(self, page, session, tmp_path):
        """An equaliser changed during a running loop is heard in what the page plays, without a stop."""
        tappable(page).goto(f"{session}/load/")
        page.locator("#propose").click()
        page.wait_for_url("**/account/", timeout=ONE_CLICK_MS)
        ready(page)
        self.undo_one_of_the_middle(page)

        page.goto(f"{session}/tone/?of=sn-top")
        expect(page.get_by_role("button", name="+ high-pass")).to_be_enabled()
        page.get_by_role("button", name="alone").click()
        page.locator('[aria-label="listening bar"] input[type=number]').first.fill("3")
        page.locator('[aria-label="listening bar"] input[type=number]').first.press("Enter")
        page.locator('[aria-label="listening bar"] input[type=number]').nth(1).fill("2")
        page.locator('[aria-label="listening bar"] input[type=number]').nth(1).press("Enter")
        listen(page)
        tap = Tap(page)
        before = tilt(tap)
        assert abs(tilt(tap) - before) < 0.1  # what does not change measures the same

        began = page.evaluate("() => globalThis.arkund.player.began")
        frequency = page.get_by_label("frequency of filter 1", exact=True)
        expect(frequency).to_have_value("85")
        frequency.fill("4000")
        frequency.press("Enter")
        expect(page.locator("#message")).to_contain_text("filter 1")
        assert comes(tap, lambda now: now < before - 5)  # the bottom mic, which keeps its body, sounds too
        assert page.evaluate("() => globalThis.arkund.player.began") == began  # the same loop, still at its place
        expect(page.locator("#play")).to_have_text("stop")

        page.locator("#undo").click()
        expect(frequency).to_have_value("85")
        assert comes(tap, lambda now: abs(now - before) < 0.2)  # as it was
        page.keyboard.press("Space")
        expect(page.locator("#play")).to_have_text("listen")

        page.goto(f"{session}/print/")
        page.locator("#print-now").click()
        expect(page.locator("a.download").first).to_be_visible(timeout=60_000)
        with page.expect_download() as waiting:
            page.locator("a.download").first.click()
        bundle = tmp_path / "print.zip"
        waiting.value.save_as(bundle)
        with zipfile.ZipFile(bundle) as names:
            assert names.testzip() is None
            assert "manifest.json" in names.namelist()
            assert any("Kit mix" in name for name in names.namelist())

    def test_a_file_that_is_no_audio(self, page, address, tmp_path):
        """The page says which file and why; nothing is made."""
        (tmp_path / "broken.wav").write_text("no audio in here")
        page.goto(address)
        page.locator("#files").set_input_files(tmp_path / "broken.wav")
        expect(page.get_by_role("alert")).to_contain_text("broken.wav: not a readable")


class TestHonesty:
    """What is old says so; what is in doubt can be heard."""

    def test_figures_from_before_are_dimmed(self, page, session):
        """While a change is measured the former figures say that they are from before, and nothing moves for it."""
        page.goto(f"{session}/punch/?of=sn-top")
        canvas, words = page.locator("canvas").first, page.get_by_text("what is dimmed is from before")
        ready(page)
        expect(words).to_be_hidden()
        held = []
        page.route("**/punch/data*", lambda route: held.append(route))
        before = canvas.bounding_box()
        page.get_by_role("button", name="KD in", exact=True).click()
        expect(words).to_be_visible()
        page.wait_for_function("() => getComputedStyle(document.querySelector('canvas')).opacity < 0.5")
        assert canvas.bounding_box() == before
        held[0].continue_()
        expect(words).to_be_hidden()
        expect(page.get_by_role("button", name="KD in", exact=True)).to_have_attribute("aria-pressed", "true")

    @pytest.mark.long
    def test_a_mic_of_doubtful_name_is_heard(self, page, session):
        """Beside the note that asks about it: its average hit, a few times."""
        note = {
            "key": "load:name:sn-top",
            "place": "sn-top",
            "number": 9,
            "title": "x",
            "evidence": "y",
            "state": "open",
            "reason": "",
            "can_do": False,
        }

        def ask(route) -> None:
            answer = route.fetch()
            data = answer.json()
            route.fulfill(response=answer, json=data | {"notes": [note, *data["notes"]]})

        page.route("**/load/data*", ask)
        tappable(page).goto(f"{session}/load/")
        page.get_by_role("button", name="hear its average hit").click()
        page.wait_for_function("() => globalThis.arkund.player.context !== null")
        tap = Tap(page)
        assert tap.level_db(tap.record(1.0), 100, 8000) > -80


class TestPages:
    """Every step's page draws its chart and keeps within the window."""

    @pytest.mark.parametrize("step", list(STEPS))
    def test_fits(self, page, looked_at, step):
        """Its canvas is not empty, and nothing is cut off sideways at 1280 and at 900 pixels."""
        page.goto(f"{looked_at}/{step}/")
        expect(page.get_by_role("heading", level=1)).to_have_text(STEPS[step].question)
        ready(page)
        if step in ("load", "level", "lineup", "timing", "tone", "punch"):
            page.wait_for_function(DRAWN)
        for width in (1280, 900):
            page.set_viewport_size({"width": width, "height": 800})
            page.wait_for_function("(width) => document.documentElement.scrollWidth <= width", arg=width)

    def test_undone_before_it_is_measured(self, page, session):
        """A hand that takes back at once need not wait until the page has measured the change."""
        page.goto(f"{session}/lineup/?of=kick")
        ready(page)
        page.locator("canvas").focus()
        page.keyboard.press("ArrowRight")
        ready(page)
        page.route("**/lineup/data*", lambda route: None)  # is never answered
        was = page.locator("#message").text_content()
        page.keyboard.press("ArrowRight")
        expect(page.locator("#message")).not_to_have_text(was)
        page.keyboard.press("Control+z")
        expect(page.locator("#message")).to_contain_text("Undone")
        page.keyboard.press("Control+Shift+Z")
        expect(page.locator("#message")).to_contain_text("Done again")

    def test_hits_by_key(self, page, session):
        """n goes to the next hit, a adds one, ctrl z takes it back."""
        page.goto(f"{session}/load/")
        ready(page)
        page.keyboard.press("n")
        expect(page.get_by_text(re.compile(r"hit at \d+\.\d+ s"))).to_be_visible()
        page.get_by_role("button", name="remove this hit").click()
        expect(page.locator("#message")).to_contain_text("Hit removed")
        page.keyboard.press("Control+z")
        expect(page.locator("#message")).to_contain_text("Hit removed")
        expect(page.locator("#redo")).to_be_enabled()

    def test_ladder_by_keys(self, page, session):
        """One sample later by the arrow key."""
        page.goto(f"{session}/lineup/?of=kick")
        ready(page)
        field = page.locator("label:has-text('delay') input")
        was = field.input_value()
        page.locator("canvas").focus()
        page.keyboard.press("ArrowRight")
        expect(page.locator("#message")).to_contain_text("delay")
        expect(field).not_to_have_value(was)
        assert float(field.input_value()) == pytest.approx(float(was) + 1 / 48, abs=1e-3)
        page.locator("#undo").click()


class TestMessages:
    """What is said has a place of its own."""

    def test_the_picture_does_not_jump_under_the_hand(self, page, session):
        """The chart stands where it stood, before a Move, while its message is shown, and after."""
        page.goto(f"{session}/tone/")
        ready(page)
        chart = page.locator("canvas").first
        place = lambda: chart.bounding_box()["y"] + page.evaluate("() => window.scrollY")
        before = place()
        filters = page.locator("[aria-label^='frequency of filter']")
        count = filters.count()
        page.get_by_role("button", name="+ bell").click()
        expect(filters).to_have_count(count + 1)
        expect(page.locator("#message")).to_contain_text("bell added")
        assert place() == before
        page.locator("#undo").click()
        expect(filters).to_have_count(count)
        page.keyboard.press("Escape")
        expect(page.locator("#message")).to_be_empty()
        assert place() == before
