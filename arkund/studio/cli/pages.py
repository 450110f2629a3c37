"""The pages as a browser meets them: start of the server, weight, frames, and how long a change takes until it is heard. Part of ``arkund bench``."""

import shutil
import statistics
import urllib.request
from pathlib import Path
from time import perf_counter

from arkund.studio.cli.served import served

CHROMIUM = "/usr/bin/chromium"
FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
]
FLAGS += ["--disable-sync", "--disable-quic", "--autoplay-policy=no-user-gesture-required"]
UNBOUND = [
    "--disable-frame-rate-limit",
    "--disable-gpu-vsync",
]  # a frame takes what it takes, not a screen's sixtieth of a second
KEYS = (
    "server_ready_s",
    "first_page_ms",
    "page_weight_kb",
    "zoom_frame_ms_p95",
    "scroll_10000_hits_frame_ms_p95",
    "heard_ms_median",
    "heard_ms_p95",
    "heard_over_150_ms_percent",
)
CHANGES = 60
LATE_MS = 150.0
PATIENCE_MS = 120_000  # a slow machine is measured, too

ZOOM = """() => new Promise((done) => {
  const canvas = document.querySelector("canvas"), out = [];
  let n = 0, last = performance.now();
  const frame = () => {
    const now = performance.now();
    if (n > 0) out.push(now - last);
    last = now;
    if (n++ >= 240) { done(out); return; }
    const zoom = n % 80 < 30 ? -1 : n % 80 < 50 ? 1 : 0;
    const by = zoom ? { deltaY: 60 * zoom } : { deltaX: n % 160 < 80 ? 40 : -40 };
    canvas.dispatchEvent(new WheelEvent("wheel", { ...by, clientX: 300 + 3 * n, clientY: 300, bubbles: true, cancelable: true }));
    requestAnimationFrame(frame);
  };
  requestAnimationFrame(frame);
})"""

# Ten thousand hits on Timing; the chart's component is `part`.
MANY_HITS = """
  const part = document.querySelector("[x-data=timing]")._x_dataStack[0];
  const chart = JSON.parse(JSON.stringify(part.chart));
  const pieces = ["kick", "snare", "hihat"];
  chart.hits = Array.from({ length: 10000 }, (_, k) => [pieces[k % 3], Math.floor(k / 20), (k % 20) / 5, (k % 7) - 3, false, k / 10, k / 10]);
  chart.beat_ms = Array(600).fill(500);
  window.dispatchEvent(new CustomEvent("chart", { detail: chart }));
"""
SCROLL = """() => new Promise((done) => {
  MANY_HITS
  const out = [];
  let n = -20, last = performance.now();
  const frame = () => {
    const now = performance.now();
    if (n > 0) out.push(now - last);
    last = now;
    if (n++ >= 240) { done(out); return; }
    part.$refs.scroll.scrollTop += 40;
    requestAnimationFrame(frame);
  };
  requestAnimationFrame(frame);
})""".replace("MANY_HITS", MANY_HITS)

HEARD = """(value) => new Promise((done) => {
  const { player } = globalThis.arkund;
  const kept = { play: player.play, playPart: player.playPart };
  const field = document.querySelector('input[aria-label="frequency of filter 1"]');
  const began = performance.now();
  for (const name of Object.keys(kept)) {
    player[name] = (...sound) => {
      const wait = kept[name].apply(player, sound);
      if (wait === null) return null;
      Object.assign(player, kept);
      done(performance.now() - began + 1000 * (wait + player.context.baseLatency));
      return wait;
    };
  }
  field.value = value;
  field.dispatchEvent(new Event("change", { bubbles: true }));
})"""


def page_figures(data: Path, session_id: int) -> dict:
    """Measure the pages of a session that lies in a data folder; all None where no browser is there."""
    if not browser_there():
        return dict.fromkeys(KEYS)
    began = perf_counter()
    with served(data) as server:
        ready_s = perf_counter() - began
        began = perf_counter()
        urllib.request.urlopen(server.address).read()  # noqa: S310
        first_ms = 1000 * (perf_counter() - began)
        return {
            "server_ready_s": round(ready_s, 2),
            "first_page_ms": round(first_ms, 1),
            **_browsed(server.address, session_id),
        }


def browser_there() -> bool:
    """Say whether pages can be measured on this machine."""
    try:
        import playwright  # noqa: F401
    except ImportError:
        return False
    return shutil.which(CHROMIUM) is not None


def _browsed(address: str, session_id: int) -> dict:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        unbound = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS + UNBOUND)
        page = unbound.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(PATIENCE_MS)
        weights: list[int] = []  # of the first page
        page.on("response", lambda answer: weights.append(_weight(answer)))
        page.goto(f"{address}/s/{session_id}/load/")
        page.wait_for_function("() => !document.body.innerText.includes('Measuring')")
        page.wait_for_timeout(1500)
        weight = sum(weights)
        _settled(page)
        frames = page.evaluate(ZOOM)
        page.goto(f"{address}/s/{session_id}/timing/")
        _settled(page)
        scrolled = page.evaluate(SCROLL)
        unbound.close()
        usual = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        page = usual.new_page(viewport={"width": 1280, "height": 800})
        page.set_default_timeout(PATIENCE_MS)
        heard = _heard(page, f"{address}/s/{session_id}/tone/?of=sn-top")
        usual.close()
    return {
        "page_weight_kb": round(weight / 1000),
        "zoom_frame_ms_p95": round(statistics.quantiles(frames, n=20)[-1], 1),
        "scroll_10000_hits_frame_ms_p95": round(statistics.quantiles(scrolled, n=20)[-1], 1),
        "heard_ms_median": round(statistics.median(heard), 1),
        "heard_ms_p95": round(statistics.quantiles(heard, n=20)[-1], 1),
        "heard_over_150_ms_percent": round(100 * sum(each > LATE_MS for each in heard) / len(heard), 1),
    }


def _settled(page) -> None:
    """Wait until the page's chart is there and the song is measured in the background."""
    page.wait_for_timeout(500)
    page.wait_for_function("() => !/Measuring|the whole song/.test(document.body.innerText)")
    page.wait_for_timeout(1500)


def _weight(answer) -> int:
    """Return the size of what was sent, but for the waveforms, which are the song's and not the page's."""
    if "/peaks/" in answer.url or "/whole/" in answer.url:
        return 0
    return int(answer.headers.get("content-length", 0)) or len(answer.body())


def _heard(page, address: str) -> list[float]:
    """Return the ms from an input's event to the new sound, while the kit's loop of 8 s plays."""
    page.goto(address)
    page.wait_for_function("() => !document.body.innerText.includes('Measuring')")
    page.locator("#play").click()
    page.wait_for_function("() => globalThis.arkund.player.playing")
    page.wait_for_timeout(3000)
    out = []
    for number in range(CHANGES + 2):
        out.append(page.evaluate(HEARD, 60 + 5 * number))
        page.wait_for_timeout(900)
    return out[2:]
