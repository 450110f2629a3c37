"""Listens to what the page really plays: a tap at the player's master, counted and recorded on the audio thread, however busy the page is."""

import base64
from dataclasses import dataclass

import numpy as np
from playwright.sync_api import Page

PROCESSOR = """
class Tap extends AudioWorkletProcessor {
  constructor() {
    super();
    Object.assign(this, { samples: 0, silent: 0, longest: 0, kept: null, filled: 0 });
    this.port.onmessage = ({ data }) => {
      if (data) Object.assign(this, { kept: new Float32Array(data), filled: 0 });
      else this.port.postMessage({ samples: this.samples, longest: this.longest });
    };
  }
  process([[left = new Float32Array(128)]]) {
    for (const v of left) {
      this.silent = v === 0 ? this.silent + 1 : 0;
      this.longest = Math.max(this.longest, this.silent);
    }
    this.samples += left.length;
    if (this.kept) {
      const some = left.subarray(0, this.kept.length - this.filled);
      this.kept.set(some, this.filled);
      this.filled += some.length;
      if (this.filled === this.kept.length) {
        this.port.postMessage(this.kept);
        this.kept = null;
      }
    }
    return true;
  }
}
registerProcessor("tap", Tap);
"""

OPEN = """async (processor) => {
  const { player } = globalThis.arkund, { context } = player;
  await context.audioWorklet.addModule(URL.createObjectURL(new Blob([processor], { type: "text/javascript" })));
  globalThis.tap = new AudioWorkletNode(context, "tap");
  player.master.connect(globalThis.tap).connect(context.destination);
}"""

ASK = """(given) => new Promise((tell) => {
  const { port } = globalThis.tap;
  port.onmessage = ({ data }) => tell(data);
  port.postMessage(given);
})"""

RECORD = f"""async (samples) => {{
  const bytes = new Uint8Array((await ({ASK})(samples)).buffer);
  let text = "";
  for (let i = 0; i < bytes.length; i += 4096) text += String.fromCharCode(...bytes.subarray(i, i + 4096));
  return btoa(text);
}}"""


@dataclass(frozen=True, slots=True)
class Heard:
    """What has been played since the tap was opened: samples in all, and the largest run of digital silence. A recording itself is never exactly silent."""

    samples: int
    longest: int


def tappable(page: Page) -> Page:
    """Return a page which, once it goes somewhere, will let itself be tapped: the site's own policy refuses foreign scripts."""
    page.context.new_cdp_session(page).send("Page.setBypassCSP", {"enabled": True})
    return page


def ready(page: Page) -> None:
    """Wait until all that was asked of a step's page is done, shown and sounds."""
    page.wait_for_function("() => globalThis.arkund?.settled?.() && !document.body.innerText.includes('Measuring')")


def listen(page: Page) -> None:
    """Start to play, and wait until it sounds at its full level."""
    page.locator("#play").click()
    page.wait_for_function("() => globalThis.arkund.player.playing")
    plays_on(page, 0.7)


def plays_on(page: Page, seconds: float) -> None:
    """Wait until so many seconds more have been played, by the player's own clock."""
    until = page.evaluate("(s) => globalThis.arkund.player.context.currentTime + s", seconds)
    page.wait_for_function("(until) => globalThis.arkund.player.context.currentTime >= until", arg=until)


class Tap:
    """A tap at the running player of a tappable page."""

    def __init__(self, page: Page) -> None:
        page.evaluate(OPEN, PROCESSOR)
        self._page = page
        self.rate = page.evaluate("() => globalThis.arkund.player.context.sampleRate")

    def heard(self) -> Heard:
        """Return what has been played so far."""
        return Heard(**self._page.evaluate(ASK, 0))

    def record(self, seconds: float) -> np.ndarray:
        """Return the left channel of what is played from now on."""
        return np.frombuffer(base64.b64decode(self._page.evaluate(RECORD, round(seconds * self.rate))), np.float32)

    def level_db(self, audio: np.ndarray, low_hz: float, high_hz: float) -> float:
        """Return the level of a band of a recording."""
        spectrum, hz = np.fft.rfft(audio), np.fft.rfftfreq(len(audio), 1 / self.rate)
        within = (hz >= low_hz) & (hz < high_hz)
        return float(10 * np.log10(np.sum(np.abs(spectrum[within] / len(audio)) ** 2) + 1e-20))


def loop(page: Page, start_s: float, seconds: float) -> None:
    """Loop a part of the song in the listening bar, whether it plays already or not."""
    fields = page.locator('[aria-label="listening bar"] input[type=number]')
    for number, value in ((0, f"{start_s:.1f}"), (1, f"{seconds:g}")):
        fields.nth(number).fill(value)
        fields.nth(number).press("Enter")
