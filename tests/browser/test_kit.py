"""From a folder to a kit: loaded, proposed by a school, read on the card, and compared with the raw kit by one key."""

import re
import shutil

import numpy as np
import pytest
from playwright.sync_api import expect

from arkund.core.dsp.loudness import measure
from tests.browser.conftest import ONE_CLICK_MS, loaded
from tests.browser.tap import Tap, listen, loop, plays_on, ready, tappable

pytestmark = pytest.mark.browser

LOOP_S = 4.0
MATCHED_DB = (
    1.2  # of the left side alone, which the tap hears: the kit's picture is centred meanwhile, by half of up to 2.4 dB
)
BAR_2_S = 4.4


@pytest.mark.long
def test_proposed_and_compared(page, chromium, address, recordings, tmp_path):
    """In the natural style: a wrong name is asked about where the click is, and it goes on by itself; nearly all figures are in range, and each step says what
    was done; raw and now are as loud as each other, and stand out from their peaks otherwise.
    """
    wrong = shutil.copytree(recordings, tmp_path / "Garden Shed")
    for take in wrong.iterdir():
        top, bottom, between = (take / f"{name}.wav" for name in ("SN top", "Snr btm", "between"))
        for a, b in ((top, between), (bottom, top), (between, bottom)):
            a.rename(b)
    mine = loaded(chromium, address, wrong)
    tappable(page).goto(f"{mine}/load/")
    ready(page)
    page.get_by_role("button", name="natural", exact=True).click()
    expect(page.locator("#message")).to_contain_text("Style: natural")
    page.locator("#propose").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#questions")).to_contain_text("look swapped. Are they?")
    expect(page.get_by_role("button", name="yes, correct the names")).to_be_focused()
    page.keyboard.press("Enter")
    page.wait_for_url("**/account/", timeout=ONE_CLICK_MS)
    ready(page)
    expect(page.get_by_label("before and after")).to_contain_text("Named the wrong way round")
    page.goto(address)
    page.locator(f'a[href="{mine.removeprefix(address)}/kit/"]').click()  # the list opens what came of it
    ready(page)
    met, known = map(int, re.match(r"(\d+) of (\d+) figures", page.locator("#card-words").inner_text()).groups())
    assert known >= 10
    assert met >= known - 2
    done = page.get_by_label("what was done")
    done.get_by_text("Level", exact=True).click()
    expect(done.get_by_role("link", name="to the page of Level")).to_be_visible()

    loop(page, BAR_2_S, LOOP_S)
    listen(page)
    tap = Tap(page)
    now = heard(tap)
    page.keyboard.press("b")
    expect(page.get_by_role("button", name="without this step")).to_have_attribute("aria-pressed", "true")
    plays_on(page, 2.0)
    raw = heard(tap)
    assert raw.loudness_lufs == pytest.approx(now.loudness_lufs, abs=MATCHED_DB)
    assert abs(raw.peak_db - now.peak_db) > 0.5
    two_styles_in_turn(page, tap, raw)


def two_styles_in_turn(page, tap: Tap, raw) -> None:
    """By keys: what heavy would make of it is worked out, shown and heard as loud as the others, then the kit as it stands; nothing was changed."""
    version = page.locator("#undo").get_attribute("title")
    page.keyboard.press("4")
    expect(page.locator("#offered")).to_contain_text("heavy would do this", timeout=ONE_CLICK_MS)
    plays_on(page, 2.0)
    heavy = heard(tap)
    assert heavy.loudness_lufs == pytest.approx(raw.loudness_lufs, abs=MATCHED_DB)
    page.keyboard.press("2")
    expect(page.locator("#offered")).to_be_hidden()
    plays_on(page, 2.0)
    assert heard(tap).loudness_lufs == pytest.approx(raw.loudness_lufs, abs=MATCHED_DB)
    assert page.locator("#undo").get_attribute("title") == version
    page.keyboard.press("4")
    page.locator("#offered").get_by_role("button", name="apply").click()
    expect(page.get_by_role("group", name="style", exact=True).get_by_role("button", name="heavy")).to_have_attribute(
        "aria-pressed", "true"
    )


def heard(tap: Tap):
    """Measure a whole loop of what the page plays."""
    return measure(np.repeat(tap.record(LOOP_S)[:, None], 2, axis=1), tap.rate)
