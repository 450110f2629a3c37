"""The ground that all reliability runs stand on: a data folder of its own with a small recording, and work in child processes that may be killed."""

import os
import signal
import sys
import time
import traceback
from collections.abc import Callable
from pathlib import Path

RATE = 48_000
MICS = ("KD in", "SN top", "HH", "T1", "OH L", "OH R")


def set_up(data: Path) -> None:
    """Prepare Django on a data folder, before anything of it is imported; no thread is started, so that the process can be forked."""
    data.mkdir(parents=True, exist_ok=True)
    os.environ |= {
        "ARKUND_DATA": str(data),
        "DJANGO_SETTINGS_MODULE": "arkund.studio.settings",
        "ARKUND_BACKGROUND": "0",
    }
    import django

    django.setup()
    from django.core.management import call_command

    call_command("migrate", verbosity=0, interactive=False)
    "".encode("cp437")  # what zip files ask for
    from arkund.studio import urls  # noqa: F401 (all that a child may need: one that gives up its rights cannot load it any more)


def small_recording(folder: Path, seconds: float, seed: int) -> Path:
    """Write a short take of a generated kit, other audio for each seed."""
    import soundfile

    from arkund.core.demo.recording import Kit, record, varied_kit
    from arkund.core.demo.score import Playing, play

    kit = varied_kit(seed, sample_rate_hz=RATE)
    kit = Kit(
        **{f: getattr(kit, f) for f in kit.__dataclass_fields__}
        | {"mics": tuple(m for m in kit.mics if m.name in MICS)}
    )
    strokes = play(Playing(bpm=120.0, bars=int(seconds / 2) + 1, start_s=0.3, seed=seed))
    folder.mkdir(parents=True)
    for mic, audio in record(kit, strokes, seconds):
        soundfile.write(folder / f"{mic.name}.wav", audio.clip(-1, 1), RATE, subtype="PCM_24")
    return folder


def tell(text: str) -> None:
    """Show how far a run is, on a terminal."""
    if sys.stderr.isatty():
        print(f"\r{text}", end="", file=sys.stderr, flush=True)


class Child:
    """Work in a forked process. What it says line by line is what has been promised to a user."""

    def __init__(self, work: Callable[[Callable[[str], None]], None]) -> None:
        reading, writing = os.pipe()
        sys.stdout.flush()
        self.pid = os.fork()
        if self.pid == 0:
            os.close(reading)
            code = 1
            try:
                work(lambda line: os.write(writing, f"{line}\n".encode()))
                code = 0
            except BaseException:
                os.write(2, traceback.format_exc().encode())
            finally:
                os._exit(code)
        os.close(writing)
        self._said = os.fdopen(reading)

    def kill_after(self, seconds: float) -> list[str]:
        """SIGKILL after some time, or earlier where the work ended; return what was said."""
        until = time.monotonic() + seconds
        while time.monotonic() < until and os.waitpid(self.pid, os.WNOHANG) == (0, 0):
            time.sleep(0.001)
        try:
            os.kill(self.pid, signal.SIGKILL)
            os.waitpid(self.pid, 0)
        except (ProcessLookupError, ChildProcessError):
            pass
        return self._said.read().splitlines()

    def result(self) -> tuple[int, list[str]]:
        """Wait for the end; return the exit code and what was said."""
        said = self._said.read().splitlines()
        return os.waitstatus_to_exitcode(os.waitpid(self.pid, 0)[1]), said


def alone(work: Callable[[], object]) -> object:
    """Return what work gives in a child of its own, so that this process stays without threads. The result must be JSON."""
    import json

    code, said = Child(lambda say: say(json.dumps(work()))).result()
    if code:
        raise RuntimeError("a child failed; see above")
    return json.loads(said[-1])
