"""The edit half in the browser: swapped toms, the ladder by keys, joined takes, a bar pulled to the grid and heard, a missed hit."""

import re

import numpy as np
import pytest
import soundfile
from playwright.sync_api import expect

from arkund.studio.cli.pages import MANY_HITS
from tests.browser.conftest import loaded
from tests.browser.tap import plays_on, ready
from tests.kits import small_kit

pytestmark = pytest.mark.browser
SUMS = """() => {
  const { player } = globalThis.arkund;
  const play = player.play.bind(player);
  globalThis.sums = [];
  player.play = (sound) => {
    globalThis.sums.push(sound.left.reduce((sum, v, i) => sum + Math.abs(v) * (i % 977), 0));
    play(sound);
  };
}"""
MANY = """() => {
  MANY_HITS
  const counts = [];
  const glyph = part.sheet.glyph.bind(part.sheet);
  part.sheet.glyph = (...args) => {
    counts[counts.length - 1] += 1;
    glyph(...args);
  };
  for (const top of [0, 3000, 1e6]) {
    part.$refs.scroll.scrollTop = top;
    counts.push(0);
    part.draw();
  }
  return counts;
}""".replace("MANY_HITS", MANY_HITS)


@pytest.fixture(scope="module")
def three_takes(address, chromium, tmp_path_factory) -> str:
    """Three takes with swapped toms, loaded through the page; the third one's ride washes."""
    to = tmp_path_factory.mktemp("edit") / "Boat House"
    drop = ("Kik sub", "Talkback", "Rm L", "Rm R", "Rm mono", "FT", "Ride")
    for number in (1, 2, 3):
        kit = small_kit(
            seed=996,
            style="straight",
            bpm=116.0,
            bars=9,
            drop=drop,
            play_with={"spread_ms": 3.0 * (4 - number), "floor_fills": False},
        )
        (to / f"take {number}").mkdir(parents=True)
        rng = np.random.default_rng(number)
        for name, audio in kit.audio.items():
            named = {"T1": "T2", "T2": "T1"}.get(name, name)
            if number == 3 and name.startswith("OH"):
                audio = audio + rng.normal(0, 0.02, audio.size).astype(np.float32)
            soundfile.write(to / f"take {number}" / f"{named}.wav", np.clip(audio, -1, 1), 48_000, subtype="PCM_24")
    found = loaded(chromium, address, to)
    page = chromium.new_page()
    page.goto(f"{found}/timing/")
    page.get_by_role("button", name="estimate from the hits").click()
    expect(page.locator("#message")).to_contain_text("BPM from the hits")
    page.close()
    return found


def opened(page, address: str) -> None:
    page.goto(address)
    ready(page)


class TestEditing:
    """Each task as an engineer does it."""

    @pytest.mark.long
    def test_swapped_toms_found_and_fixed(self, page, three_takes):
        """One step from the note, and the names are right."""
        opened(page, f"{three_takes}/load/")
        note = page.locator("article", has_text="look swapped")
        expect(note).to_have_count(1)
        expect(note).to_contain_text("T1 and T2")
        note.get_by_role("button", name="do it").click()
        expect(page.locator("#message")).to_contain_text("look swapped")
        opened(page, f"{three_takes}/load/")
        expect(page.locator("article", has_text="look swapped")).to_have_count(0)

    def test_ladder_nudged_by_keys(self, page, three_takes):
        """A sample, a tenth and a whole millisecond, and a turn of polarity."""
        opened(page, f"{three_takes}/lineup/?of=kick")
        field = page.locator("label:has-text('delay') input")
        was = float(field.input_value())
        for keys, step in (("ArrowRight", 1 / 48), ("Shift+ArrowRight", 0.1), ("Alt+ArrowLeft", -1.0)):
            page.locator("canvas").focus()
            page.keyboard.press(keys)
            was += step
            page.wait_for_function(
                "(want) => Math.abs(Number([...document.querySelectorAll('label')].find((l) => l.textContent.includes('delay'))"
                ".querySelector('input').value) - want) < 2e-3",
                arg=was,
            )
        page.keyboard.press("i")
        expect(page.locator("#message")).to_contain_text("polarity flipped")

    def test_a_stroke_stepped_by_keys(self, page, three_takes):
        """Three presses are one Move, made though the page is left before the keys rest."""
        opened(page, f"{three_takes}/timing/")
        for key in ("n", "n", "n", "ArrowRight", "ArrowRight", "ArrowRight"):
            page.keyboard.press(key)
        page.goto(f"{three_takes}/logbook/")
        page.wait_for_function(
            "() => fetch(location.href).then((a) => a.text()).then((text) => /Stroke at .* moved .3.0 ms/.test(text))"
        )

    def test_a_comp_of_three_takes_with_a_seam_warning(self, page, three_takes):
        """Bars of the washy take are joined in, the seam is said to be heard, and is played by one key."""
        opened(page, f"{three_takes}/takes/")
        while page.get_by_role("button", name="find its hits").locator("visible=true").count():
            page.get_by_role("button", name="find its hits").locator("visible=true").first.click()
            expect(page.locator("#message")).to_have_text("Done.")
            opened(page, f"{three_takes}/takes/")
        box = page.locator("canvas").bounding_box()
        wide = (box["width"] - 106) / 10
        page.mouse.move(box["x"] + 92 + 4.5 * wide, box["y"] + 24 + 2 * 74 + 40)
        page.mouse.down()
        page.mouse.move(box["x"] + 92 + 5.5 * wide, box["y"] + 24 + 2 * 74 + 40, steps=3)
        page.mouse.up()
        page.keyboard.press("Enter")
        expect(page.locator("#message")).to_contain_text("from take 3")
        expect(page.get_by_text(re.compile("to take 3: cymbals"))).to_be_visible()
        expect(page.get_by_text("– will be heard").first).to_be_visible()
        page.keyboard.press("j")
        expect(page.locator('[aria-label="listening bar"] input[type=number]').first).not_to_have_value("0.0")
        page.locator("#undo").click()
        expect(page.get_by_text("– will be heard")).to_have_count(0)

    def test_a_bar_quantised_and_heard(self, page, three_takes):
        """Pulled by a button; what is played of the edited kit is not what is played without."""
        opened(page, f"{three_takes}/timing/")
        box = page.locator("canvas").first.bounding_box()
        page.mouse.click(box["x"] + 30, box["y"] + 26 + 2.5 * 22)
        page.get_by_role("button", name="pull to the grid").click()
        expect(page.locator("#message")).to_contain_text("strokes moved")
        page.get_by_role("button", name="loop these bars").click()
        page.evaluate(SUMS)
        page.locator("#play").click()
        page.wait_for_function("() => globalThis.sums.length > 0")
        page.keyboard.press("b")
        page.wait_for_function("() => globalThis.sums.length > 1")
        edited, as_played = page.evaluate("() => globalThis.sums.slice(0, 2)")
        assert abs(edited - as_played) > 1e-3 * abs(edited)
        page.keyboard.press("Space")
        page.locator("#undo").click()
        expect(page.locator("#message")).to_contain_text("grid")

    @pytest.mark.long
    def test_a_stroke_by_keys(self, page, three_takes):
        """Chosen by n, moved a millisecond, shown in all mics."""
        opened(page, f"{three_takes}/timing/")
        page.keyboard.press("n")
        expect(page.get_by_text("this moment in all mics")).to_be_visible()
        page.keyboard.press("ArrowRight")
        expect(page.locator("#message")).to_contain_text("moved +1.0 ms")
        page.locator("#undo").click()

    def test_a_stroke_dragged(self, page, three_takes):
        """Its glyph is pulled along the beat."""
        opened(page, f"{three_takes}/timing/")
        box = page.locator("canvas").first.bounding_box()
        where = page.evaluate(
            "() => { const d = document.querySelector('[x-data=timing]')._x_dataStack[0]; const h = d.byBar.get(1)[0];"
            " return [d.axis().to(h[2]), d.sheet.top + 1.5 * 22]; }"
        )
        page.mouse.move(box["x"] + where[0], box["y"] + where[1])
        page.mouse.down()
        page.mouse.move(box["x"] + where[0] + 5, box["y"] + where[1], steps=3)
        page.mouse.up()
        expect(page.locator("#message")).to_contain_text("Stroke at")
        page.locator("#undo").click()

    @pytest.mark.long
    def test_a_bar_line_dragged_and_a_tempo_tapped(self, page, three_takes):
        """The line lies where it was dropped; taps along with the loop make a tempo to take."""
        opened(page, f"{three_takes}/load/")
        box = page.locator("canvas").bounding_box()
        at = page.evaluate(
            "() => { const d = document.querySelector('[x-data=load]')._x_dataStack[0]; return d.axis().to(d.chart.bars.lines_s[4]); }"
        )
        page.mouse.move(box["x"] + at, box["y"] + 34)
        page.mouse.down()
        page.mouse.move(box["x"] + at + 6, box["y"] + 34, steps=3)
        page.mouse.up()
        expect(page.locator("#message")).to_contain_text("Bar line 5 at")
        page.locator("#undo").click()
        opened(page, f"{three_takes}/timing/")
        page.locator("#play").click()
        page.wait_for_function("() => globalThis.arkund.player.playing")
        for _ in range(5):
            page.keyboard.press("t")
            plays_on(page, 0.5)
        page.keyboard.press("Space")
        page.get_by_role("button", name=re.compile("take the tapped")).click()
        expect(page.locator("#message")).to_contain_text("tapped")
        page.locator("#undo").click()

    def test_a_missed_hit_added(self, page, three_takes):
        """At the mark, by the key a; it stands on Timing too."""
        opened(page, f"{three_takes}/load/")
        box = page.locator("canvas").bounding_box()
        page.mouse.click(box["x"] + 92 + 30, box["y"] + 300)
        expect(page.get_by_text(re.compile("mark at"))).to_be_visible()
        page.keyboard.press("a")
        expect(page.locator("#message")).to_contain_text("Hit added: snare")
        page.locator("#undo").click()


class TestManyHits:
    """Ten thousand hits."""

    @pytest.mark.long
    def test_only_what_is_seen_is_drawn(self, page, three_takes):
        """However many there are, a frame draws the rows in the window; the last ones are reached by scrolling."""
        opened(page, f"{three_takes}/timing/")
        drawn = page.evaluate(MANY)
        assert 0 < max(drawn) < 600
        assert drawn[-1] > 0
