"""A short share of the long runs that try to break Arkund: see docs/reliability.md."""

import os
import subprocess
import sys

import pytest


@pytest.mark.parametrize(
    ("run", "count"),
    [("writers", 6), *(pytest.param(*each, marks=pytest.mark.long) for each in (("fuzz", 3), ("kills", 1)))],
)
def test_nothing_is_wrong(run, count):
    """Each run ends with nothing wrong."""
    env = {name: value for name, value in os.environ.items() if name not in ("ARKUND_DATA", "DJANGO_SETTINGS_MODULE")}
    command = [sys.executable, "-m", f"tests.reliability.{run}", str(count)]
    done = subprocess.run(command, env=env, capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stdout + done.stderr[-2000:]
    assert ": 0 wrong" in done.stdout
