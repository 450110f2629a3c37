"""Long work on a cluster of two workers on this machine: the same bytes as here, also when a worker dies in the middle."""

import json
import os
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.studio.test_cli import ARKUND, arkund, as_json

pytestmark = pytest.mark.long  # a scheduler, workers and prints as processes
LONG = 10  # the little kit repeated, so that there is a middle in which to die


class Cluster:
    """A scheduler and two workers, each a process of its own."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.processes = folder, []
        scheduler = self._start("scheduler", "--host", "127.0.0.1", "--port", "0", "--no-dashboard")
        self.address = self._wait(scheduler, r"tcp://(127\.0\.0\.1:\d+)")
        for name in ("first", "second"):
            worker = self._start(
                "worker", f"tcp://{self.address}", "--nthreads", "1", "--no-nanny", "--no-dashboard", "--name", name
            )
            self._wait(worker, r"Registered to:")

    def _start(self, role: str, *args: str) -> Path:
        log = self.folder / f"{role}-{len(self.processes)}.log"
        command = [sys.executable, "-m", "distributed.cli.dask_" + role, *args]
        with log.open("w") as out:
            self.processes.append(subprocess.Popen(command, stdout=out, stderr=out, cwd=self.folder))
        return log

    def _wait(self, log: Path, words: str) -> str:
        until = time.monotonic() + 60
        while time.monotonic() < until:
            found = re.search(words, log.read_text())
            if found:
                return found[found.lastindex or 0]
            time.sleep(0.1)
        raise AssertionError(log.read_text())

    def busy_worker(self) -> subprocess.Popen:
        """Return the worker that has a print's files open."""
        until = time.monotonic() + 60
        while time.monotonic() < until:
            for process in self.processes[1:]:
                for link in Path(f"/proc/{process.pid}/fd").iterdir():
                    try:
                        if ".printing-" in str(link.readlink()):
                            return process
                    except OSError:  # closed meanwhile
                        continue
            time.sleep(0.02)
        raise AssertionError("no worker prints")

    def stop(self) -> None:
        for process in self.processes:
            process.kill()
            process.wait()


@pytest.fixture
def cluster(tmp_path):
    made = Cluster(tmp_path)
    yield made
    made.stop()


@pytest.fixture
def long_folder(folder, tmp_path) -> Path:
    import numpy as np
    import soundfile

    to = tmp_path / "Long Kit"
    to.mkdir()
    for path in folder.iterdir():
        audio, rate = soundfile.read(path, dtype="float32")
        soundfile.write(to / path.name, np.tile(audio, LONG), rate, subtype="PCM_24")
    return to


def hashes(folder: Path) -> dict[str, str]:
    return {f["file"]: f["blake3"] for f in json.loads((folder / "manifest.json").read_text())["files"]}


class TestCluster:
    """ARKUND_EXECUTOR=dask://..."""

    @pytest.mark.long
    def test_a_worker_dies_while_it_prints(self, cluster, long_folder, tmp_path, monkeypatch):
        """The other takes the print over; the files are those that this machine prints alone."""
        data = tmp_path / "data"
        number = as_json(data, "import", long_folder)["session"]
        arkund(data, "set", number, "mics.sn-top.tools.gate.on=true", "kit.tools.limiter.on=true")
        arkund(data, "print", number, tmp_path / "here")

        monkeypatch.setenv("ARKUND_EXECUTOR", f"dask://{cluster.address}")
        command = [*ARKUND, "print", str(number), str(tmp_path / "there")]
        printing = subprocess.Popen(command, env=os.environ | {"ARKUND_DATA": str(data)})
        cluster.busy_worker().send_signal(signal.SIGKILL)
        assert printing.wait(timeout=120) == 0
        assert hashes(tmp_path / "there") == hashes(tmp_path / "here")
        assert not list(tmp_path.glob(".printing-*"))

    @pytest.mark.long
    def test_a_batch(self, cluster, folder, tmp_path, monkeypatch):
        """Songs go through the whole line there, and their hits are those found here; one that cannot be read stops no other."""
        data = tmp_path / "data"
        here = as_json(data, "hits", as_json(data, "import", folder)["session"])
        monkeypatch.setenv("ARKUND_EXECUTOR", f"dask://{cluster.address}")
        done = arkund(data, "batch", folder, tmp_path / "nothing", "--out", tmp_path / "out", "--json", check=False)
        first, second = json.loads(done.stdout)["songs"]
        assert done.returncode == 2
        assert (first["error"], second["session"]) == ("", None)
        assert "is not a folder" in second["error"]
        assert as_json(data, "hits", first["session"]) == here
        assert "kit" in {
            f["output"] for f in json.loads((tmp_path / "out" / "Little Kit" / "manifest.json").read_text())["files"]
        }

    def test_no_scheduler(self, tmp_path, folder, monkeypatch):
        """It is said in one sentence."""
        data = tmp_path / "data"
        number = as_json(data, "import", folder)["session"]
        monkeypatch.setenv("ARKUND_EXECUTOR", "dask://127.0.0.1:9")
        done = arkund(data, "print", number, tmp_path / "out", check=False)
        assert done.returncode == 2
        assert "no scheduler answers" in done.stderr
        assert not (tmp_path / "out").exists()
