"""Eight clients who listen while settings change, with prints and imports between, for as long as it takes: ``make soak SOAK=20000``.

After the first thousand auditions, descriptors, memory and the start page's time must be level; no audition may be refused, nobody may wait much longer than
others; the process stays within its budget of memory.
"""

import http.client
import json
import os
import random
import re
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

import psutil

from tests.reliability.ground import alone, set_up, small_recording, tell

CLIENTS = 8
SECONDS = 24.0  # of the song
LOOPS_S = (2.0, 4.0, 8.0)
WARM = 1000  # auditions, before anything is held to be level
PRINT_EVERY, IMPORT_EVERY = 500, 2000
BUDGET_MB = 1200
LOOK_EVERY_S = 0.5
MOST_PAGE_S = 0.1
MORE_DESCRIPTORS, MORE_MEMORY = 24, 1.15  # what counts as level
COMMAND = [sys.executable, "-c", "from arkund.studio.cli.main import main; main()"]


class Browser:
    """One connection with the cookies and the token of a page."""

    def __init__(self, port: int) -> None:
        self.port, self.connection = port, http.client.HTTPConnection("127.0.0.1", port, timeout=120)
        _, page, headers = self.ask("GET", "/")
        self.token = re.search(r'name="csrf" content="([^"]+)"', page.decode())[1]
        self.cookie = headers["Set-Cookie"].split(";")[0]

    def ask(self, method: str, address: str, body: dict | None = None) -> tuple[int, bytes, http.client.HTTPMessage]:
        """Ask for an address; a connection that was let go while it was idle is opened again."""
        headers = {"Content-Type": "application/json"}
        if method == "POST":
            headers |= {"X-CSRFToken": self.token, "Cookie": self.cookie}
        for attempt in (1, 2):
            try:
                self.connection.request(method, address, None if body is None else json.dumps(body), headers)
                answer = self.connection.getresponse()
                return answer.status, answer.read(), answer.headers
            except (http.client.RemoteDisconnected, BrokenPipeError, ConnectionResetError):
                self.connection.close()
                if attempt == 2:
                    raise
        raise AssertionError


class Soak:
    """A server, its listeners, and what was seen of it."""

    def __init__(self, folder: Path, wanted: int) -> None:
        self.folder, self.wanted = folder, wanted
        self.counts, self.waited_s, self.by_client, self.lock = Counter(), [], Counter(), threading.Lock()
        self.seen: list[tuple[int, int, float, float]] = []  # auditions so far, descriptors, MB, start page in s
        set_up(folder / "data")
        self.recordings = small_recording(folder / "in", SECONDS, 73)
        self.session = alone(self._begin)
        env = os.environ | {"ARKUND_DATA": str(folder / "data"), "ARKUND_BACKGROUND": "1"}
        env |= {"ARKUND_MEMORY": str(BUDGET_MB)}
        self.log = (folder / "log").open("w+")
        self.server = subprocess.Popen([*COMMAND, "serve", "--port", "0"], env=env, stdout=self.log, stderr=self.log)
        self.port = self._port()

    def _begin(self) -> int:
        from arkund.studio.services.importing import import_folder
        from arkund.studio.services.proposing import propose_all

        session = import_folder(self.recordings, bpm=120.0, name="soak")
        propose_all(session.pk)
        return session.pk

    def _port(self) -> int:
        process = psutil.Process(self.server.pid)
        until = time.monotonic() + 60
        while time.monotonic() < until:
            for each in process.net_connections(kind="tcp"):
                if each.status == psutil.CONN_LISTEN:
                    return each.laddr.port
            time.sleep(0.1)
        raise RuntimeError(f"the server did not start: {self._said()}")

    def _said(self) -> str:
        self.log.flush()
        return Path(self.log.name).read_text()[-2000:]

    def done(self) -> int:
        """Return how many auditions were answered."""
        return sum(self.by_client.values())

    def listen(self, number: int) -> None:
        """Loop a place of the song, a setting changed each time, as a page does while a slider moves."""
        rng, page, asked = random.Random(number), Browser(self.port), 0
        while self.done() < self.wanted:
            asked += 1
            length = rng.choice(LOOPS_S)
            start = rng.choice((0.0, 4.0, 8.0, 12.0))
            body = {
                "start": int(start * 48_000),
                "stop": int((start + length) * 48_000),
                "what": rng.choice(("kit", "kit", "drum:snare", "in:kick", "alone:sn-top", "change")),
                "step": rng.choice(("tone", "punch", "clean", "blend")),
                "changes": self._changes(rng),
                "client": f"page {number}",
                "number": asked,
            }
            began = time.monotonic()
            status, answer, _ = page.ask("POST", f"/s/{self.session}/audition", body)
            with self.lock:
                self.counts[f"audition {status}"] += 1
                self.waited_s.append(time.monotonic() - began)
                self.by_client[number] += 1
                if status == 200 and len(answer) != 8 * (body["stop"] - body["start"]):
                    self.counts["wrong length"] += 1

    def _changes(self, rng: random.Random) -> dict:
        mic = rng.choice(("kd-in", "sn-top", "hh", "t1", "oh-l", "oh-r"))
        return {
            f"mics.{mic}." + rng.choice(("trim_db", "mix.level_db", "compressor.threshold_db")): round(
                rng.uniform(-24.0, 0.0), 1
            )
        }

    def work(self) -> None:
        """Print and import now and then."""
        page, printed, imported = Browser(self.port), 0, 0
        while self.done() < self.wanted:
            if self.done() >= (printed + 1) * PRINT_EVERY:
                printed += 1
                self._finish(page, "print", page.ask("POST", f"/s/{self.session}/print-now", {"format": "wav24"}))
            if self.done() >= (imported + 1) * IMPORT_EVERY:
                imported += 1
                env = os.environ | {"ARKUND_DATA": str(self.folder / "data")}
                made = subprocess.run(
                    [*COMMAND, "import", str(self.recordings), "--name", f"beside {imported}"], env=env
                )
                self.counts[f"import {made.returncode}"] += 1
            time.sleep(0.2)

    def _finish(self, page: Browser, what: str, answer: tuple) -> None:
        job = json.loads(answer[1])["job"]
        while (row := json.loads(page.ask("GET", f"/jobs/{job}")[1]))["state"] in ("waiting", "running"):
            time.sleep(0.2)
        self.counts[f"{what} {row['state']}"] += 1

    def look(self) -> None:
        """Ask for the start page, and look at the process."""
        page, process = Browser(self.port), psutil.Process(self.server.pid)
        while self.done() < self.wanted:
            began = time.monotonic()
            status, *_ = page.ask("GET", "/")
            took = time.monotonic() - began
            self.counts[f"start page {status}"] += 1
            self.seen.append((self.done(), process.num_fds(), process.memory_info().rss / (1 << 20), took))
            tell(f"{self.done()} of {self.wanted}: {self.seen[-1][1]} descriptors, {self.seen[-1][2]:.0f} MB")
            time.sleep(LOOK_EVERY_S)

    def run(self) -> tuple[dict, list[str]]:
        """Let all go; return figures and what is wrong."""
        works = [*((lambda n=n: self.listen(n)) for n in range(CLIENTS)), self.work, self.look]
        errors: list[str] = []

        def guarded(work) -> None:
            try:
                work()
            except Exception as error:
                errors.append(f"{type(error).__name__}: {error}")
                self.by_client["failed"] += self.wanted  # lets the others end

        threads = [threading.Thread(target=guarded, args=(work,)) for work in works]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.server.terminate()
        code = self.server.wait(60)
        return self._judge(errors + ([f"the server ended with {code}: {self._said()}"] if code else []))

    def _judge(self, wrong: list[str]) -> tuple[dict, list[str]]:
        parts = self._parts()
        figures = {
            "answers": dict(sorted(self.counts.items())),
            "audition_s": {"median": _quantile(self.waited_s, 0.5), "p95": _quantile(self.waited_s, 0.95)},
            "by_client": [min(self.by_client.values()), max(self.by_client.values())],
            **parts,
        }
        wrong += [what for what in self.counts if what.startswith("audition") and what != "audition 200"]
        wrong += [
            what for what in self.counts if what in ("print failed", "wrong length") or what.startswith("import 1")
        ]
        first, last = parts["first"], parts["last"]
        if last["descriptors"] > first["descriptors"] + MORE_DESCRIPTORS:
            wrong.append(f"descriptors grew from {first['descriptors']} to {last['descriptors']}")
        if last["mb"] > MORE_MEMORY * first["mb"]:
            wrong.append(f"memory grew from {first['mb']} to {last['mb']} MB")
        if parts["most_mb"] > BUDGET_MB:
            wrong.append(f"{parts['most_mb']} MB of {BUDGET_MB} were taken")
        if parts["page_p95_s"] > MOST_PAGE_S:
            wrong.append(f"the start page took {parts['page_p95_s']} s")
        if figures["by_client"][0] < 0.8 * figures["by_client"][1]:
            wrong.append(f"unfair: {figures['by_client']}")
        return figures, wrong

    def _parts(self) -> dict:
        """Return what was seen in the first part after the warm-up and in the last one."""
        warm = min(WARM, self.wanted // 4)
        seen = [row for row in self.seen if row[0] >= warm]
        size = max(len(seen) // 5, 1)
        parts = {}
        for name, rows in (("first", seen[:size]), ("last", seen[-size:])):
            parts[name] = {
                "descriptors": max(row[1] for row in rows),
                "mb": round(statistics.median(row[2] for row in rows)),
                "page_p95_s": _quantile([row[3] for row in rows], 0.95),
            }
        parts["most_mb"] = round(max(row[2] for row in self.seen))
        parts["page_p95_s"] = _quantile([row[3] for row in seen], 0.95)
        return parts


def _quantile(values: list[float], share: float) -> float:
    ordered = sorted(values)
    return round(ordered[min(int(share * len(ordered)), len(ordered) - 1)], 3)


def run(count: int) -> tuple[dict, list[str]]:
    """Listen so often."""
    with tempfile.TemporaryDirectory(prefix="arkund-soak-") as folder:
        return Soak(Path(folder), count).run()


if __name__ == "__main__":
    began = time.monotonic()
    found, faults = run(int(sys.argv[1]))
    print(json.dumps(found, indent=1))
    print(f"{sys.argv[1]} auditions in {time.monotonic() - began:.0f} s: {len(faults)} wrong")
    print("\n".join(faults[:20]))
    sys.exit(bool(faults))
