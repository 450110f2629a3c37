"""Every note of every page done, undone, done again: ``make notes``, or ``python -m tests.reliability.every_note FOLDER BPM`` on recordings of one's own.

Step by step, as an engineer goes through a song. Of each note: done it is told as done by its own title, and once only; undone it is open again, word for word,
and the Plan is as it was to the last value; done again the Plan is as it was then. What a page says afterwards is held against the logbook.
"""

import json
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from tests.reliability.ground import alone, set_up, small_recording

MOST_OF_A_STEP = 60  # notes; a page that always has another one would never end


class Pages:
    """The pages of one session as their scripts ask for them."""

    def __init__(self, session_id: int) -> None:
        from django.test import Client

        self.at, self.client, self.wrong, self.counts = f"/s/{session_id}", Client(), [], Counter()
        self.session_id = session_id

    def data(self, step: str) -> dict:
        return self.client.get(f"{self.at}/{step}/data").json()

    def plan(self) -> dict:
        from arkund.studio.models import Session

        return Session.objects.get(pk=self.session_id).plan_json

    def post(self, name: str, **body) -> tuple[int, dict]:
        answer = self.client.post(f"{self.at}/{name}", json.dumps(body), "application/json")
        return answer.status_code, answer.json()

    def check(self, holds: bool, words: str) -> None:
        if not holds:
            self.wrong.append(words)


def note_of(data: dict, key: str) -> dict | None:
    return next((each for each in data["notes"] if each["key"] == key), None)


def one(pages: Pages, step: str, note: dict, version: int) -> None:
    """Do a note, undo it and do it again."""
    what, before = f"{step}: {note['title']}", pages.plan()
    asked = {"step": step, "key": note["key"], "verdict": "do"}
    status, answer = pages.post("decide", **asked, version=version)
    if status != 200:
        return pages.check(False, f"{what}: refused, {answer.get('error', status)}")
    done, plan = pages.data(step), pages.plan()
    pages.counts["done"] += 1
    pages.check(plan != before, f"{what}: done, and nothing changed")
    now = note_of(done, note["key"])
    pages.check(now is None or now["state"] == "done", f"{what}: done, and told as {now and now['state']}")
    pages.check(now is None or not now["changed"], f"{what}: done, and told as changed since")
    status, _ = pages.post("decide", **asked, version=done["version"])
    pages.check(pages.plan() == plan, f"{what}: pressed twice, done twice ({status})")
    status, answer = pages.post("undo", move=done["undo"]["move"])
    pages.check(status == 200, f"{what}: undo refused, {answer}")
    undone = pages.data(step)
    pages.check(pages.plan() == before, f"{what}: undone, and the Plan is another")
    again = note_of(undone, note["key"])
    pages.check(again is not None and again["state"] == "open", f"{what}: undone, and not open")
    if again is not None:
        same = (again["title"], again["evidence"]) == (note["title"], note["evidence"])
        pages.check(same, f"{what}: undone, and says {again['title']!r} now")
    status, answer = pages.post("redo", move=undone["redo"]["move"])
    pages.check(status == 200, f"{what}: redo refused, {answer}")
    pages.check(pages.plan() == plan, f"{what}: done again, and the Plan is another")
    return None


def through(pages: Pages, steps) -> None:
    """Go through the pages in their order."""
    for step in steps:
        tried: set[str] = set()
        while len(tried) < MOST_OF_A_STEP:
            data = pages.data(step)
            open_ = [each for each in data["notes"] if each["state"] == "open"]
            pages.check(data["open"][step]["open"] == len(open_), f"{step}: the rail says {data['open'][step]}")
            note = next((each for each in open_ if each["can_do"] and each["key"] not in tried), None)
            if note is None:
                pages.counts["said only"] += sum(not each["can_do"] for each in open_)
                break
            tried.add(note["key"])
            one(pages, step, note, data["version"])
        else:
            pages.check(False, f"{step}: more than {MOST_OF_A_STEP} notes, one after the other")


def _work(folder: Path, bpm: float) -> list:
    from arkund.studio.services import recordings
    from arkund.studio.services.importing import import_folder
    from arkund.studio.steps import STEPS

    session = import_folder(folder, bpm=bpm)
    recordings.find_all(session)
    pages = Pages(session.pk)
    through(pages, STEPS)
    logbook = [(move.step, move.title) for move in session.moves.order_by("number")]
    told = [f"{step:<8} {title}" for step, title in logbook]
    return [pages.counts, pages.wrong, told]


def run(folder: Path | None = None, bpm: float = 120.0) -> tuple[Counter, list[str], list[str]]:
    """Go through the notes of a folder of recordings, or of a small generated one; return how many, what is wrong, and what was done."""
    with tempfile.TemporaryDirectory(prefix="arkund-notes-") as data:
        set_up(Path(data) / "data")
        from django.conf import settings

        settings.ALLOWED_HOSTS = ["testserver"]
        mine = folder or small_recording(Path(data) / "Song", 16.0, 6)
        counts, wrong, told = alone(lambda: _work(mine, bpm))
        return Counter(counts), wrong, told


if __name__ == "__main__":
    began = time.monotonic()
    found, faults, deeds = run(*([Path(sys.argv[1]), float(sys.argv[2])] if len(sys.argv) > 2 else []))
    print("\n".join(deeds))
    print(f"notes, {dict(found)} in {time.monotonic() - began:.0f} s: {len(faults)} wrong")
    print("\n".join(faults[:40]))
    sys.exit(bool(faults))
