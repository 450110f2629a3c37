"""SIGKILL at random moments of imports, Moves, jobs, prints, archives and returns: ``make kills KILLS=240``.

After each, the application starts as it always does, and then: database and files agree (the doctor has no complaint), all that was accepted is
there, nothing half-made is shown.
"""

import json
import random
import shutil
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

from blake3 import blake3

from tests.reliability.ground import Child, alone, set_up, small_recording, tell

KILLS = ("import", "moves", "job", "print", "archive", "restore")


class Ground:
    """A session that is worked on, and how long each kind of work takes when nobody kills it."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        set_up(folder / "data")
        self.recordings = small_recording(folder / "in", 8.0, 71)
        self.session = alone(self._begin)
        self.archive = folder / "base.zip"
        self.work = {
            "import": self._import,
            "moves": self._moves,
            "job": self._job,
            "print": self._print,
            "archive": self._archive,
            "restore": self._restore,
        }
        self.took = {kind: self._timed(kind) for kind in KILLS}
        self.moves_said = 0

    def _begin(self) -> int:
        from arkund.studio.services.archiving import archive
        from arkund.studio.services.importing import import_folder
        from tests.studio.doing import apply

        session = import_folder(self.recordings, bpm=120.0, name="worked on")
        apply(
            session.pk, {"mics.sn-top.tools.gate.on": True, "kit.tools.limiter.on": True}, step="clean", title="begun"
        )
        session.refresh_from_db()
        archive(session, self.folder / "base.zip")
        return session.pk

    def _timed(self, kind: str) -> float:
        began = time.monotonic()
        Child(self.work[kind]).kill_after(20.0 if kind != "moves" else 0.6)
        return time.monotonic() - began

    def _import(self, say) -> None:
        from arkund.studio.services.importing import import_folder

        say(import_folder(self.recordings, name="import").pk)

    def _moves(self, say) -> None:
        """Change and undo for ever, and say each Move that was accepted."""
        from arkund.studio.services import moves
        from tests.studio.doing import apply

        rng = random.Random()
        while True:
            if rng.random() < 0.2:
                moves.undo(self.session)
                continue
            move = apply(self.session, {"mics.sn-top.trim_db": round(rng.uniform(-20, 20), 2)}, step="level", title="x")
            if move is None:
                continue  # by chance the value that stands
            say(move.number)

    def _job(self, say) -> None:
        """Import through a job, as the page does, and wait for its end."""
        from arkund.studio.jobs import runner
        from arkund.studio.models import Job
        from arkund.studio.services import store

        folder = store.incoming_folder() / f"in-{time.time_ns()}"
        shutil.copytree(self.recordings, folder)
        job = runner.start("import", {"folder": folder.name, "name": "job", "bpm": None, "meter": "4/4"}, "job")
        say(job.pk)
        while Job.objects.get(pk=job.pk).state in Job.OPEN:
            time.sleep(0.05)

    def _print(self, say) -> None:
        from arkund.studio.models import Session
        from arkund.studio.services import store
        from arkund.studio.services.printing import print_session

        folder = store.prints_folder() / str(self.session) / f"{time.time_ns()}"
        print_session(Session.objects.get(pk=self.session), folder)
        say(folder.name)

    def _archive(self, say) -> None:
        from arkund.studio.models import Session
        from arkund.studio.services import store
        from arkund.studio.services.archiving import archive

        store.archives_folder().mkdir(exist_ok=True)
        say(archive(Session.objects.get(pk=self.session), store.archives_folder() / f"{time.time_ns()}.zip").name)

    def _restore(self, say) -> None:
        from arkund.studio.services.archiving import restore

        say(restore(self.archive, name="restore").pk)

    def round(self, kind: str, after_s: float) -> list[str]:
        """Kill one piece of work, start anew, and return what is wrong."""
        said = Child(self.work[kind]).kill_after(after_s)
        return alone(lambda: self._look(kind, said))

    def _look(self, kind: str, said: list[str]) -> list[str]:
        from arkund.studio.models import Job, Session
        from arkund.studio.services import housekeeping, store
        from arkund.studio.services.doctor import examine
        from arkund.studio.services.recordings import recordings_of

        housekeeping.clear_up()
        while Job.objects.filter(state__in=Job.OPEN).exists():
            time.sleep(0.05)
        wrong = [f"{c.what}: {c.remedy}" for c in examine(repair=False)]
        sessions = {s.pk: s for s in Session.objects.all()}
        if kind in ("import", "restore"):
            wrong += [f"accepted session {pk} is lost" for pk in said if int(pk) not in sessions]
        if kind == "moves":
            have = set(Session.objects.get(pk=self.session).moves.values_list("number", flat=True))
            wrong += [f"accepted Move {number} is lost" for number in said if int(number) not in have]
        if kind == "job":
            wrong += [
                f"job {pk}: {Job.objects.get(pk=pk).state}" for pk in said if Job.objects.get(pk=pk).state != Job.DONE
            ]
        for session in sessions.values():
            if session.ready and recordings_of(session).mic("take-1", "sn-top").read(0, 1000).size != 1000:
                wrong.append(f"session {session.pk} cannot be read")
        for manifest in store.prints_folder().rglob("manifest.json"):
            for row in json.loads(manifest.read_text())["files"]:
                if blake3((manifest.parent / row["file"]).read_bytes()).hexdigest() != row["blake3"]:
                    wrong.append(f"{row['file']} is not what its manifest says")
        for each in store.prints_folder().glob("*/*"):
            if not (each / "manifest.json").exists():
                wrong.append(f"half a print: {each.name}")
        self._tidy(sessions)
        return wrong

    def _tidy(self, sessions: dict) -> None:
        """Forget what the round left, so that every round begins alike."""
        from arkund.studio.models import Print
        from arkund.studio.services import housekeeping, quarantine, store

        for pk, session in sessions.items():
            if pk != self.session:
                housekeeping.remove(session)
        Print.objects.all().delete()
        for folder in (store.prints_folder(), store.archives_folder(), quarantine.folder()):
            shutil.rmtree(folder, ignore_errors=True)


def run(kills: int, seed: int = 1) -> tuple[Counter, list[str]]:
    """Kill so often, in turn over all kinds of work; return how often each and what was wrong."""
    rng, done, wrong = random.Random(seed), Counter(), []
    with tempfile.TemporaryDirectory(prefix="arkund-kills-") as folder:
        ground = Ground(Path(folder))
        for number in range(kills):
            kind = KILLS[number % len(KILLS)]
            after_s = rng.uniform(0.0, 1.05 * ground.took[kind])
            found = ground.round(kind, after_s)
            done[kind] += 1
            wrong += [f"{kind} after {after_s:.3f} s: {each}" for each in found]
            tell(f"{number + 1} of {kills}, {len(wrong)} wrong")
    return done, wrong


if __name__ == "__main__":
    began = time.monotonic()
    counts, faults = run(int(sys.argv[1]))
    print(f"{sum(counts.values())} kills {dict(counts)} in {time.monotonic() - began:.0f} s: {len(faults)} wrong")
    print("\n".join(faults[:20]))
    sys.exit(bool(faults))
