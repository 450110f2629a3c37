"""``arkund serve`` as a process of its own on a free port: for the bench and for tests."""

import os
import re
import subprocess
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

COMMAND = [sys.executable, "-c", "from arkund.studio.cli.main import main; main()"]
ADDRESS = re.compile(r"Arkund is at (http://\S+?:(\d+))/")
STOP_S = 10


@dataclass(frozen=True, slots=True)
class Served:
    """A running server: its process, its address without a slash at the end, and its port."""

    process: subprocess.Popen
    address: str
    port: int


@contextmanager
def served(data: Path, *words: str, env: dict[str, str] | None = None) -> Iterator[Served]:
    """Start a server on a data folder, on a port that the system chooses; yield it once it answers, and stop it at the end.

    The port is read from what the server says, so that no other program can take it in between. Raises RuntimeError where it does not start.
    """
    command = [*COMMAND, "serve", "--port", "0", *words]
    environment = os.environ | {"ARKUND_DATA": str(data), "PYTHONUNBUFFERED": "1"} | (env or {})
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True)  # noqa: S603
    try:
        yield _answering(process)
    finally:
        process.terminate()
        try:
            process.wait(STOP_S)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()
        process.stdout.close()


def _answering(process: subprocess.Popen) -> Served:
    for line in process.stdout:
        if found := ADDRESS.search(line):
            threading.Thread(target=process.stdout.read, daemon=True).start()  # what it says later blocks nobody
            return Served(process, found[1], int(found[2]))
    raise RuntimeError(f"the server did not start: it ended with exit code {process.wait()}")
