"""Two windows, the one click, the command line and an engineer's hands at the same time on one session: ``make hands SECONDS=300``.

Two windows of a real browser line up, type levels, do notes, undo and do again; meanwhile everything is proposed, again and again, and the command line sets
what it likes. In the end every Move that anybody was told is made stands in the logbook, done unless it was undone, and the Plan is what they make together.
"""

import os
import random
import subprocess
import sys
import tempfile
import time
from collections import Counter
from contextlib import suppress
from pathlib import Path

from arkund.studio.cli.served import COMMAND, served
from tests.reliability.ground import alone, set_up, small_recording

FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run"]
ENDS_S = 600.0  # for what is still under way at the end


class Told:
    """What windows were told: Moves by number with what became of them, refusals, and what went wrong."""

    def __init__(self) -> None:
        self.deeds: dict[int, str] = {}
        self.counts: Counter[str] = Counter()
        self.wrong: list[str] = []

    def listen(self, page) -> None:
        """Take note of each answer to a change, in the order in which they come."""
        page.on("response", self._heard)
        page.on("pageerror", lambda error: self.wrong.append(f"page: {error}"))

    def _heard(self, response) -> None:
        name = response.url.rsplit("/", 1)[-1]
        if response.request.method != "POST" or name not in ("moves", "undo", "redo", "decide"):
            return
        if response.status == 409:
            self.counts["refused"] += 1
        elif response.status >= 500:
            self.wrong.append(f"{name}: {response.status}")
        elif response.status == 200:
            answer = response.json()
            if answer.get("move") is not None:
                self.deeds[answer["move"]] = answer["deed"]
                self.counts[answer["deed"]] += 1


def _open(browser, address: str, step: str, of: str):
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    page.set_default_timeout(60_000)
    page.goto(f"{address}/{step}/?of={of}")
    page.wait_for_function("() => globalThis.arkund?.settled?.()")
    return page


def _at_once(address: str, session_id: int, seconds: float, data: Path, told: Told) -> None:
    """Let all of them work for some time."""
    from playwright.sync_api import sync_playwright

    rng, until, commands = random.Random(7), time.monotonic() + seconds, []
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        windows = [
            (step, _open(browser, f"{address}/s/{session_id}", step, of))
            for step, of in (("lineup", "kick"), ("level", ""))
        ]
        third = _open(browser, f"{address}/s/{session_id}", "load", "")
        for page in (third, *(page for _, page in windows)):
            told.listen(page)
        while time.monotonic() < until:
            step, page = rng.choice(windows)
            _hand(step, page, rng)
            page.wait_for_timeout(rng.choice((20, 100, 700, 1500)))
            _propose(third, rng, told)
            commands = [each for each in commands if each.poll() is None]
            if not commands and rng.random() < 0.1:
                change = f"mics.hh.trim_db={rng.uniform(-20, 20):.1f}"
                env = {"ARKUND_DATA": str(data)}
                commands.append(_command("set", str(session_id), change, env=env))
                told.counts["commands"] += 1
        for each in commands:
            if each.wait(ENDS_S):
                told.counts["commands refused"] += 1
        for _, page in windows:
            page.wait_for_function("() => globalThis.arkund.settled()", timeout=1000 * ENDS_S)
        third.wait_for_function("() => !document.querySelector('#propose')?.disabled", timeout=1000 * ENDS_S)
        browser.close()


def _propose(page, rng: random.Random, told) -> None:
    """Propose a mix now and then; answer what is asked about names, and come back from the account of it."""
    if "/load/" not in page.url:
        page.goto(page.url.replace("/account/", "/load/"))
    answer = page.get_by_role("button", name="no, the names are right")
    propose = page.locator("#propose")
    if answer.is_visible():
        answer.click()
    elif propose.is_enabled() and rng.random() < 0.1:
        propose.click()
        told.counts["proposed"] += 1


def _hand(step: str, page, rng: random.Random) -> None:
    """Do one thing in a window: step a delay, type a trim, do a note, undo or do again."""
    from playwright.sync_api import TimeoutError as TooLate

    what = rng.random()
    if what < 0.2:
        page.locator("canvas").first.focus()
        page.keyboard.press(rng.choice(("Control+z", "Control+Shift+Z")))
    elif what < 0.3 and (note := page.get_by_role("button", name="do it").first).count() and note.is_enabled():
        with suppress(TooLate):  # it went away under the hand
            note.click(timeout=2000)
    elif step == "lineup":
        page.locator("canvas").first.focus()
        page.keyboard.press(rng.choice(("ArrowRight", "ArrowLeft")))
    else:
        field = rng.choice(page.locator("[aria-label^='trim of']").all())
        field.fill(f"{rng.uniform(-20, 20):.1f}")
        field.press("Enter")


def _command(*words: str, env: dict[str, str]) -> subprocess.Popen:
    return subprocess.Popen(
        [*COMMAND, *words], env=os.environ | env, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
    )


def _check(session_id: int, before: dict, deeds: dict[int, str]) -> tuple[int, list[str]]:
    """Hold what windows were told against the logbook, and the logbook against the Plan; return how many Moves there are, and what is wrong."""
    from arkund.core.plan import change, difference
    from arkund.core.plan.versions import read_plan
    from arkund.studio.models import Move, Session

    session = Session.objects.get(pk=session_id)
    states = dict(session.moves.values_list("number", "state"))
    wrong = [
        f"Move {number} was told as {deed} and is not there" for number, deed in deeds.items() if number not in states
    ]
    wanted = {"done": Move.DONE, "done again": Move.DONE, "undone": Move.UNDONE}
    for number, deed in deeds.items():
        state = states.get(number)
        dropped = deed == "undone" and state == Move.DROPPED  # another Move followed
        if state is not None and state != wanted[deed] and not dropped:
            wrong.append(f"Move {number} was told as {deed} last and is {state}")
    plan = read_plan(before, rate=session.sample_rate_hz)
    for move in session.moves.filter(state=Move.DONE).order_by("number"):
        plan = change.put(plan, difference.unpacked(plan, change.of_today(move.after)))
    if plan != session.plan:
        wrong.append("the Plan is not what the Moves make together")
    return len(states), wrong


def _begin(folder: Path) -> list:
    from arkund.studio.models import Session
    from arkund.studio.services import recordings
    from arkund.studio.services.importing import import_folder

    session = import_folder(folder, bpm=120.0)
    recordings.find_all(session)
    return [session.pk, Session.objects.get(pk=session.pk).plan_json]


def run(seconds: float) -> tuple[Counter, list[str]]:
    """Let all work at once, and hold what they were told against what is there."""
    with tempfile.TemporaryDirectory(prefix="arkund-hands-") as folder:
        data, told = Path(folder) / "data", Told()
        set_up(data)
        recording = small_recording(Path(folder) / "Song", 16.0, 5)
        session_id, before = alone(lambda: _begin(recording))
        with served(data, env={"ARKUND_BACKGROUND": "1"}) as server:
            _at_once(server.address, session_id, seconds, data, told)
        moves, wrong = alone(lambda: _check(session_id, before, told.deeds))
        return told.counts | Counter(moves=moves), told.wrong + wrong


if __name__ == "__main__":
    began = time.monotonic()
    counts, faults = run(float(sys.argv[1]))
    print(f"hands, {dict(counts)} in {time.monotonic() - began:.0f} s: {len(faults)} wrong")
    print("\n".join(faults[:20]))
    sys.exit(bool(faults))
