"""What the process does with freed memory."""

import platform
import subprocess
import sys

import pytest

# Pages that the system had to bring while some arrays were made and freed again and again.
COUNT = """
import resource, sys
import numpy as np
from arkund.studio.memory import keep_freed
if sys.argv[1] == "kept":
    assert keep_freed(4 << 30)
def use():
    some = [np.full(1 << 19, 1.0, np.float32) for _ in range(20)]
for _ in range(5):
    use()
before = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
for _ in range(5):
    use()
print(resource.getrusage(resource.RUSAGE_SELF).ru_minflt - before)
"""


def pages(kept: str) -> int:
    command = [sys.executable, "-c", COUNT, kept]
    return int(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


class TestKeepFreed:
    """Arrays find the memory of those before them."""

    @pytest.mark.skipif(platform.libc_ver()[0] != "glibc", reason="not the GNU C library")
    def test_no_new_pages(self):
        """Once used, memory is not asked for again; without, it is."""
        assert pages("kept") < 50
        assert pages("given back") > 1000


RESIDENT = """
import psutil
import numpy as np
from arkund.studio.memory import give_back, keep_freed
keep_freed(4 << 30)
def resident_mb():
    return psutil.Process().memory_info().rss / 2**20
before = resident_mb()
some = [np.full(1 << 20, 1.0, np.float32) for _ in range(100)]
some = some[-1:]
kept = resident_mb() - before
give_back()
print(kept, resident_mb() - before)
"""


class TestGiveBack:
    """Before long work the process lets go of what it kept."""

    @pytest.mark.skipif(platform.libc_ver()[0] != "glibc", reason="not the GNU C library")
    def test_what_was_freed_goes(self):
        """Of four hundred megabytes, what is in use stays."""
        command = [sys.executable, "-c", RESIDENT]
        kept, left = map(float, subprocess.run(command, capture_output=True, text=True, check=True).stdout.split())
        assert kept > 300 > 30 > left
