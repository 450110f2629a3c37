"""The console command in a process of its own: JSON shapes and exit codes."""

import json
import os
import socket
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path

import pytest
import soundfile

ARKUND = [sys.executable, "-c", "from arkund.studio.cli.main import main; main()"]


@dataclass(frozen=True)
class Line:
    """A data folder with the session “Line”, and what was said when it was imported."""

    data: Path
    made: dict


@pytest.fixture(scope="module")
def line(tmp_path_factory, folder) -> Line:
    data = tmp_path_factory.mktemp("data")
    made, *_ = all_json(
        data,
        ("import", folder, "--bpm", 120, "--name", "Line"),
        ("scene", "add", "Line", "Lift", "--bars", "2-3", "--fade", "40"),
    )
    return Line(data, made)


@pytest.fixture(scope="module")
def data(line) -> Path:
    return line.data


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


ONE_BY_ONE = """
import contextlib, io, json, sys
from arkund.studio.cli.main import main
for words in json.loads(sys.argv[1]):
    said, out = io.StringIO(), io.StringIO()
    with contextlib.redirect_stderr(said), contextlib.redirect_stdout(out):
        try:
            main(words)
            code = 0
        except SystemExit as ended:
            code = ended.code
        except Exception as wrong:
            code, said = -1, io.StringIO(repr(wrong))
    print(json.dumps([code or 0, out.getvalue(), said.getvalue()]))
"""


def in_one(data: Path, *commands: tuple) -> list[tuple[int, str, str]]:
    """Return the exit code, standard output and standard error of some commands, which share a process."""
    done = subprocess.run(
        [sys.executable, "-c", ONE_BY_ONE, json.dumps([list(map(str, each)) for each in commands])],
        env=os.environ | {"ARKUND_DATA": str(data)},
        capture_output=True,
        text=True,
        timeout=120,
        check=True,
    )
    return [tuple(json.loads(line)) for line in done.stdout.splitlines()]


def all_json(data: Path, *commands: tuple) -> list:
    """Return what some commands print, each of which must succeed."""
    done = in_one(data, *((*each, "--json") for each in commands))
    assert [code for code, *_ in done] == [0] * len(done), done
    return [json.loads(out) for _, out, _ in done]


def as_json(data: Path, *args):
    return json.loads(arkund(data, *args, "--json").stdout)


class TestLine:
    """A folder goes in, a print comes out."""

    def test_the_whole_line(self, line, tmp_path):
        """import, sessions, hits, lineup, set, print: the documented shapes."""
        data, made = line.data, line.made
        assert set(made) == {"session", "mics", "warnings"}
        assert set(made["mics"][0]) == {"file", "name", "role", "piece", "confidence"}
        number = made["session"]
        sessions, hits, lineup, moved, manifest = all_json(
            data,
            ("sessions",),
            ("hits", number),
            ("lineup", "Line"),
            ("set", number, "mics.sn-top.trim_db=-2.5", "kit.tools.limiter.on=true", "--reason", "too hot"),
            ("print", number, tmp_path / "out", "--format", "flac24"),
        )
        assert "Line" in {each["name"] for each in sessions["sessions"]}
        assert hits["sample_rate"] == 48_000
        assert set(hits["pieces"]["kick"][0]) == {"time_s", "velocity", "ghost", "level_db"}
        mics = lineup["mics"]
        assert set(mics["Snr btm.wav"]) == {"reference", "delay_ms", "polarity", "spread_ms", "sure"}
        assert mics["Snr btm.wav"]["polarity"] == -1
        assert mics["KD out.wav"]["delay_ms"] > 0.5
        assert moved["after"] == {"mics.sn-top.trim_db": -2.5, "kit.tools.limiter.on": True}
        kit = next(f for f in manifest["files"] if f["output"] == "kit")
        assert soundfile.info(tmp_path / "out" / kit["file"]).frames == manifest["length_samples"]
        assert kit["true_peak_db"] <= -0.9
        assert manifest["plan"]["mics"]

    @pytest.mark.long
    def test_everything_proposed(self, data, folder):
        """propose: a Move for each deed, with its step."""
        number = as_json(data, "import", folder, "--bpm", 120)["session"]
        proposed = as_json(data, "propose", number)
        assert {"lineup", "tone", "blend", "kit"} <= {m["step"] for m in proposed["moves"]}

    def test_the_rig(self, data):
        """tool, path, group: the documented shapes; what is set by the id of a tool is heard there."""
        _, added, _, row, paths, _, scenes, groups = all_json(
            data,
            ("path", "add", "Line", "punch"),
            ("tool", "add", "Line", "sn-top", "compressor"),
            ("tool", "move", "Line", "sn-top", "compressor-2", "-99"),
            ("tool", "list", "Line", "sn-top"),
            ("path", "list", "Line"),
            ("set", "Line", "--scene", "lift", "paths.punch.level_db=-2"),
            ("scene", "list", "Line"),
            ("group", "list", "Line"),
        )
        assert set(added) == {"move", "title", "before", "after"}
        assert row["tools"][0]["id"] == "compressor-2"
        assert {"kind", "id", "on", "hits_db", "between_db"} <= set(row["tools"][0])
        assert paths["paths"][0]["fed_by"]["mic:sn-top"] == 0.0
        (lift,) = scenes["scenes"]
        assert (lift["holds_in"], lift["held"]) == ([[1, 3]], [{"place": "paths.punch.level_db", "value": -2.0}])
        assert groups["groups"][0]["members"] == ["kd-in", "kd-out"]

    @pytest.mark.long
    def test_kept_safe(self, data, tmp_path):
        """archive, restore, doctor, share: the documented shapes."""
        packed = as_json(data, "archive", "Line", tmp_path / "line.zip")
        assert packed == {"file": str(tmp_path / "line.zip"), "bytes": (tmp_path / "line.zip").stat().st_size}
        back = as_json(data, "restore", tmp_path / "line.zip", "--name", "Back")
        assert (back["name"], set(back)) == ("Back", {"session", "name", "moves"})
        doctored, made, shared = in_one(
            data,
            ("doctor", "--json"),
            ("user", "anna", "--password", "not so easily guessed 7"),
            ("share", "Back", "anna"),
        )
        assert json.loads(doctored[1]) == {"done": [], "complaints": [], "put_aside": []}
        assert (made[0], shared[1]) == (0, "Back: anna\n")
        (data / "audio" / ".new-left").write_text("x")
        done = arkund(data, "doctor", "--json", check=False)
        assert done.returncode == 1
        assert set(json.loads(done.stdout)["complaints"][0]) == {"what", "remedy", "repaired"}
        assert "deleted" in arkund(data, "doctor", "--repair").stdout

    def test_bad_input(self, data):
        """Exit code 2 and one sentence on standard error."""
        wrong = [
            (("archive", "Line", "/proc/nowhere.zip"), "cannot be written"),
            (("restore", "/nowhere.zip"), "cannot be restored"),
            (("share", "Line", "nobody"), "arkund user"),
            (("import", "/nowhere/at/all"), "is not a folder"),
            (("batch", ""), "has no name"),
            (("hits", "999"), "arkund sessions"),
            (("set", "Line", "mics.sn-top.trim_db=900"), "outside -40 to 40 dB"),
            (("set", "Line", "trim"), "KEY=VALUE"),
            (("set", "Line", "nothing.here=1"), "unknown key"),
            (("print", "Line", "/proc/nowhere/out"), "cannot be written"),
            (("print", "Line", "/tmp/x", "--format", "mp3"), "mp3"),
            (("tool", "add", "Line", "sn-top", "flanger"), "unknown tool 'flanger'"),
            (("scene", "add", "Line", "Far", "--bars", "900-901"), "not in the song"),
            (("set", "Line", "--scene", "nobody", "kit.level_db=1"), "no scene 'nobody'; there are lift"),
            (("frobnicate",), "No such command"),
        ]
        for (args, words), (code, _, said) in zip(wrong, in_one(data, *(args for args, _ in wrong)), strict=True):
            assert (code, words in said, "Traceback" in said) == (2, True, False), (args, said)

    def test_read_only_in_part(self, data):
        """Where a pipe is closed before all is told, as by `| head`, nothing is said of an error."""
        started = subprocess.Popen(
            [*ARKUND, "sessions"],
            env=os.environ | {"ARKUND_DATA": str(data)},
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        started.stdout.close()
        assert "internal error" not in started.stderr.read()
        started.wait(60)

    @pytest.mark.long
    def test_batch_of_the_folder_one_stands_in(self, tmp_path, monkeypatch):
        """It is a folder like any other, and says what it lacks."""
        monkeypatch.chdir(tmp_path)
        told = arkund(tmp_path / "data", "batch", ".", "--out", "prints", check=False)
        assert f"{tmp_path.name}: holds no WAV" in told.stdout

    def test_serving_to_others_needs_a_login(self, tmp_path):
        """On another address than the loopback someone must be able to log in."""
        done = arkund(tmp_path, "serve", "--port", "0", "--host", "0.0.0.0", check=False)  # noqa: S104
        assert done.returncode == 2
        assert "arkund user" in done.stderr

    def test_a_port_in_use(self, tmp_path):
        """What cannot be listened on is told as what it is, and not as a disk's fault."""
        with socket.create_server(("127.0.0.1", 0)) as other:
            port = other.getsockname()[1]
            done = arkund(tmp_path, "serve", "--port", port, check=False)
        assert done.returncode == 2
        assert f"port: {port} on 127.0.0.1 is already in use" in done.stderr
        assert "disk" not in done.stderr
        done = arkund(tmp_path, "serve", "--host", "192.0.2.77", "--port", "0", check=False)
        assert done.returncode == 2
        assert "192.0.2.77 is no address of this machine" in done.stderr


@pytest.mark.long
class TestEditHalf:
    """tempo, quantise, takes, midi, level: the documented shapes, and bad input in a sentence."""

    def test_the_edit_half(self, tmp_path_factory, folder, tmp_path):
        """One session through all of them; bad input gives exit code 2 and says what was expected."""
        data = tmp_path_factory.mktemp("edit")
        number = as_json(data, "import", folder, "--name", "Edit")["session"]
        quantise = ("quantise", number, "--grid", "1/16", "--strength", 100)
        tempo, made, again, level, takes, midi, back = all_json(
            data,
            ("tempo", number),
            quantise,
            quantise,
            ("level", number, "--school", "headroom", "--accept", "--repair"),
            ("takes", number),
            ("midi", number, tmp_path / "a.mid"),
            ("tempo", number, "--file", tmp_path / "a.mid"),
        )
        assert {"source", "bpm", "first_bar_s", "changes", "score", "sure", "bend_ms", "doubt"} <= set(tempo)
        assert tempo["bpm"] == pytest.approx(120.0, abs=0.2)
        assert made["tempo_move"] is not None
        assert made["moved"] > 20
        assert set(made["cuts"][0]) == {"at", "shift", "fade_ms", "alike"}
        assert again["move"] is None
        assert level["window"]["high_db"] == -12.0
        snare = level["mics"]["SN top.wav"]
        assert snare["window_db"][0] - 0.6 <= snare["typical_db"] <= snare["window_db"][1] + 0.6
        assert len(snare["hit_peaks_db"]) == snare["hits"]
        assert (snare["clipped"], snare["repair"]) == (0, False)
        assert set(takes["takes"][0]["bars"][0]) >= {"bar", "score", "offset_ms", "missing", "doubled"}
        assert midi["hits"] > 50
        assert back["bpm"] == pytest.approx(tempo["bpm"], abs=0.01)

        wrong = [
            (("quantise", "Edit", "--grid", "sixteenth"), "--grid: expected something like 1/16"),
            (("quantise", "Edit", "--bars", "8-"), "--bars: expected"),
            (("quantise", "Edit", "--section", "bridge"), "no section 'bridge'"),
            (("tempo", "Edit", "--from", "midi"), "--file: name the file"),
            (("midi", "Edit", "hits.txt"), "ends in .mid, .csv, .json"),
            (("takes", "Edit", "--use", "3"), "expected BARS=TAKE"),
        ]
        for (args, words), (code, _, said) in zip(wrong, in_one(data, *(args for args, _ in wrong)), strict=True):
            assert (code, words in said) == (2, True), (args, said)
