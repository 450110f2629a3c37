"""The console command in a process of its own: JSON shapes, exit codes, and what survives a kill."""

import json
import os
import random
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
import soundfile

ARKUND = [sys.executable, "-c", "from arkund.studio.cli.main import main; main()"]


@pytest.fixture(scope="module")
def data(tmp_path_factory) -> Path:
    return tmp_path_factory.mktemp("data")


def arkund(data: Path, *args, check: bool = True):
    done = subprocess.run(
        [*ARKUND, *map(str, args)],
        env=os.environ | {"ARKUND_DATA": str(data)},
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert not check or done.returncode == 0, done.stderr
    return done


def as_json(data: Path, *args):
    return json.loads(arkund(data, *args, "--json").stdout)


class TestLine:
    """A folder goes in, a print comes out."""

    def test_the_whole_line(self, data, folder, tmp_path):
        """import, sessions, hits, lineup, propose, set, print: the documented shapes."""
        made = as_json(data, "import", folder, "--bpm", 120, "--name", "Line")
        assert set(made) == {"session", "mics", "warnings"}
        assert set(made["mics"][0]) == {"file", "name", "role", "piece", "confidence"}
        number = made["session"]
        assert as_json(data, "sessions")["sessions"][0]["name"] == "Line"

        hits = as_json(data, "hits", number)
        assert hits["sample_rate"] == 48_000
        assert set(hits["pieces"]["kick"][0]) == {"time_s", "velocity", "ghost", "level_db"}

        lineup = as_json(data, "lineup", "Line")["mics"]
        assert set(lineup["Snr btm.wav"]) == {"reference", "delay_ms", "polarity", "spread_ms", "sure"}
        assert lineup["Snr btm.wav"]["polarity"] == -1
        assert lineup["KD out.wav"]["delay_ms"] > 0.5

        steps = {m["step"] for m in as_json(data, "propose", number)["moves"]}
        assert {"lineup", "tone", "punch", "blend"} <= steps
        moved = as_json(data, "set", number, "mics.sn-top.trim_db=-2.5", "bus.limiter_on=true", "--reason", "too hot")
        assert moved["after"] == {"mics.sn-top.trim_db": -2.5, "bus.limiter_on": True}

        manifest = as_json(data, "print", number, tmp_path / "out", "--format", "flac24")
        kit = next(f for f in manifest["files"] if f["output"] == "kit")
        assert soundfile.info(tmp_path / "out" / kit["file"]).frames == manifest["length_samples"]
        assert kit["true_peak_db"] <= -0.9
        assert manifest["plan"]["mics"]

    @pytest.mark.parametrize(
        ("args", "words"),
        [
            (("import", "/nowhere/at/all"), "is not a folder"),
            (("hits", "999"), "arkund sessions"),
            (("set", "Line", "mics.sn-top.trim_db=900"), "outside -40 to 40 dB"),
            (("set", "Line", "trim"), "KEY=VALUE"),
            (("set", "Line", "nothing.here=1"), "unknown key"),
            (("print", "Line", "/proc/nowhere/out"), "cannot be written"),
            (("print", "Line", "/tmp/x", "--format", "mp3"), "mp3"),
            (("frobnicate",), "No such command"),
        ],
    )
    def test_bad_input(self, data, args, words):
        """Exit code 2 and one sentence on standard error."""
        done = arkund(data, *args, check=False)
        assert done.returncode == 2
        assert words in done.stderr
        assert "Traceback" not in done.stderr

    def test_serving_to_others_needs_a_login(self, data):
        """On another address than the loopback someone must be able to log in."""
        done = arkund(data, "serve", "--host", "0.0.0.0", check=False)  # noqa: S104
        assert done.returncode == 2
        assert "arkund user" in done.stderr


class TestKilled:
    """SIGKILL at random moments: afterwards the session is as before or as after."""

    def state(self, data: Path) -> dict:
        sessions = as_json(data, "sessions")["sessions"]
        return {s["session"]: s["version"] for s in sessions}

    @pytest.mark.parametrize("seed", range(4))
    def test_during_import(self, folder, tmp_path, seed):
        """Either no session or a whole one; left-overs go at the next start."""
        data = tmp_path / "data"
        arkund(data, "sessions")
        self.kill(data, random.Random(seed).uniform(0.5, 1.6), "import", folder)
        for number in self.state(data):
            assert len(as_json(data, "hits", number)["pieces"]) >= 3

    @pytest.mark.parametrize("seed", range(3))
    def test_during_moves_and_print(self, folder, tmp_path, seed):
        """Every accepted Move is whole; a print that was cut off is not there."""
        data = tmp_path / "data"
        number = as_json(data, "import", folder)["session"]
        rng = random.Random(seed)
        self.kill(data, rng.uniform(1.0, 5.0), "propose", number)
        version = self.state(data)[number]
        arkund(data, "set", number, "mics.sn-top.trim_db=-1")
        assert self.state(data)[number] == version + 1
        out = tmp_path / "out"
        self.kill(data, rng.uniform(0.6, 2.2), "print", number, out)
        assert not out.exists() or (out / "manifest.json").exists()
        arkund(data, "print", number, tmp_path / "again")

    def kill(self, data: Path, after_s: float, *args) -> None:
        process = subprocess.Popen(
            [*ARKUND, *map(str, args)],
            env=os.environ | {"ARKUND_DATA": str(data)},
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(after_s)
        process.send_signal(signal.SIGKILL)
        process.wait()
