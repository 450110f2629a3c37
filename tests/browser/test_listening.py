"""What the page plays while settings change fast: no gap, no wrong sound left standing, no growth of memory."""

import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.tap import Tap, plays_on, tappable
from tests.seeds import seeds

pytestmark = pytest.mark.browser

# The buffer that plays now against one asked for anew: the largest difference of their samples.
DIFFERENCE = """async (question) => {
  const { player, sounds } = globalThis.arkund;
  const { audio } = await import("/static/js/lib/server.js");
  const wanted = await audio(sounds.address, { client: "judge", number: 1, step: sounds.step, ...question });
  const { buffer } = player.current.source;
  let most = Math.abs(buffer.length - wanted.left.length);
  const left = buffer.getChannelData(0);
  for (let i = 0; i < wanted.left.length; i += 1) most = Math.max(most, Math.abs(left[i] - wanted.left[i]));
  return most;
}"""


@pytest.fixture
def playing(page: Page, session: str) -> Page:
    """The tone page with a high-pass, the kit's loop of 4 s playing."""
    tappable(page).goto(f"{session}/tone/?of=sn-top")
    add = page.get_by_role("button", name="+ high-pass")
    expect(add).to_be_enabled()
    add.click()
    expect(page.get_by_label("frequency of filter 1", exact=True)).to_be_visible()
    for number, value in enumerate(("3", "4")):
        page.locator('[aria-label="listening bar"] input[type=number]').nth(number).fill(value)
        page.locator('[aria-label="listening bar"] input[type=number]').nth(number).press("Enter")
    page.locator("#play").click()
    page.wait_for_function("() => globalThis.arkund.player.playing")
    plays_on(page, 1.2)
    return page


def memory_mb(page: Page) -> float:
    """What scripts hold, and the audio that their buffers hold is a part of it, after clearing up."""
    client = page.context.new_cdp_session(page)
    client.send("HeapProfiler.collectGarbage")
    used = client.send("Runtime.getHeapUsage")
    client.detach()
    return (used["usedSize"] + used.get("embedderHeapUsedSize", 0) + used.get("backingStorageSize", 0)) / 1e6


# Counts the parts that sounded, and keeps the answers for whole loops back where it is told to.
PARTS = """(back) => {
  const { player } = globalThis.arkund, { playPart, play } = player;
  globalThis.parts = { sounded: 0, whole: 0 };
  player.playPart = function (...sound) {
    const wait = playPart.apply(this, sound);
    if (wait !== null) globalThis.parts.sounded += 1;
    return wait;
  };
  player.play = function (sound) {
    globalThis.parts.whole += 1;
    if (!back) play.call(this, sound);
  };
}"""


# Whether the loop behind a part was ever silent.
BEHIND = """() => {
  globalThis.behind = { hidden: false };
  setInterval(() => {
    if (globalThis.arkund.player.current.gain.gain.value === 0) globalThis.behind.hidden = true;
  }, 10);
}"""


class TestPartFirst:
    """What is under the ear is heard before the rest of the loop is there."""

    def change(self, page: Page, value: int) -> None:
        field = page.get_by_label("frequency of filter 1", exact=True)
        field.evaluate("(f, v) => { f.value = v; f.dispatchEvent(new Event('change', { bubbles: true })); }", value)

    def part_sounds(self, page: Page) -> bool:
        """Change something, and say whether a part of it came in time to be played: on a busy machine it may not."""
        before = page.evaluate("() => globalThis.parts")
        self.change(page, 700 + before["whole"])
        page.wait_for_function("(n) => globalThis.parts.whole > n", arg=before["whole"])
        return page.evaluate("() => globalThis.parts.sounded") > before["sounded"]

    @pytest.mark.long
    def test_then_the_whole(self, playing):
        """The part gives way to the loop that was asked for with it."""
        page = playing
        page.evaluate(PARTS, False)
        assert any(self.part_sounds(page) for _ in range(8))
        assert page.evaluate("() => globalThis.arkund.player.part") is None

    def test_without_the_whole(self, playing):
        """The old loop goes on behind the part, without a gap and at its full level."""
        page = playing
        page.evaluate(PARTS, True)
        tap = Tap(page)
        page.evaluate(BEHIND)
        assert any(self.part_sounds(page) for _ in range(8))
        page.wait_for_function("() => globalThis.behind.hidden")
        page.wait_for_function("() => globalThis.arkund.player.current.gain.gain.value === 1")
        assert tap.heard().longest < 0.001 * tap.rate


class TestFastChanges:
    """A hand that does not rest."""

    @pytest.mark.parametrize("changing_s", seeds(5, 30))
    def test_without_a_rest(self, playing, changing_s):
        """The loop goes on without a gap; what stands in the end is what was set last; memory does not grow."""
        page, before_mb = playing, memory_mb(playing)  # clearing up stops all scripts: never while gaps are counted
        tap, field = Tap(page), page.get_by_label("frequency of filter 1", exact=True)
        began = page.evaluate("() => globalThis.arkund.player.began")
        for number in range(changing_s * 4):
            value = 60 + (number * 37) % 900
            field.evaluate("(f, v) => { f.value = v; f.dispatchEvent(new Event('change', { bubbles: true })); }", value)
            plays_on(page, 0.25)
        expect(page.locator("#message")).to_contain_text(f"frequency hz {value}")
        plays_on(page, 2.5)
        heard, rate = tap.heard(), tap.rate
        assert heard.samples > changing_s * rate
        assert heard.longest < 0.001 * rate
        assert page.evaluate("() => globalThis.arkund.player.began") == began
        question = {"what": "kit", "version": "after", "start": 3 * rate, "stop": 7 * rate, "changes": {}}
        assert page.evaluate(DIFFERENCE, question) < 1e-6
        assert memory_mb(page) < before_mb + 10.0

    def test_a_swap_keeps_clear_of_the_ear(self, playing):
        """What would take over within the time that a busy machine needs is refused, and asked for again further ahead; what is far enough sounds."""
        page = playing
        page.keyboard.press("l")
        page.wait_for_function("() => globalThis.arkund.player.chunks.length > 0")
        plays_on(page, 0.3)
        near, far = (
            page.evaluate(
                """(ahead) => {
                const { player } = globalThis.arkund;
                const rate = player.context.sampleRate;
                const left = new Float32Array(rate).fill(0.01);
                const from = player.songPlace + ahead;
                return player.swapSong({ left, right: left, rate, loudness: -40 }, from, from + 1);
            }""",
                ahead,
            )
            for ahead in (0.03, 0.4)
        )
        assert (near, far) == (False, True)

    def test_the_song_streams(self, playing):
        """The whole song follows in chunks without a gap, also over a change."""
        page = playing
        page.keyboard.press("l")
        page.wait_for_function("() => globalThis.arkund.player.chunks.length > 0")
        plays_on(page, 0.8)
        tap = Tap(page)
        field = page.get_by_label("frequency of filter 1", exact=True)
        field.evaluate("(f) => { f.value = 500; f.dispatchEvent(new Event('change', { bubbles: true })); }")
        plays_on(page, 2.5)
        heard = tap.heard()
        assert heard.samples > tap.rate
        assert heard.longest < 0.001 * tap.rate
        expect(page.locator("#message")).to_contain_text(re.compile("500"))
