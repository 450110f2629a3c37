"""How loops are compiled: options, the few widths of banks that they are made for, and where the compiled code is kept.

Layout: audio of several channels is a flat float32 array, sample after sample, each a row of LANES values, one for each channel; parameters and states of a
stage are rows of LANES values too. A row is one value of the type in ``lanes``. A loop takes the width as ``stride``, a tuple as long as the bank is wide,
which tells the compiler the stride: what goes from row to row stays in registers. (A closure over the width would do so too, but code of closures that call
each other is not found again in the cache.)
"""

import hashlib
import os
from collections.abc import Callable
from functools import partial
from pathlib import Path
from types import SimpleNamespace

import numpy as np
from numba import njit
from numba.core import config

from arkund.core import units

LINE = 16  # values in a line of the processor's cache
WIDTHS = (4, 8, 16)  # channels of a bank
NARROW, WIDE = WIDTHS[0], WIDTHS[-1]
PAIR = 2  # neighbouring lanes of a bank are the sides of a stereo strip
BLOCK = 128  # samples between two flushes of denormal states
OPTIONS = {
    "nogil": True,
    "cache": True,
    "error_model": "numpy",
    # No "contract" and no "arcp": every width and lane must round alike, so that a strip's samples do not depend on its bank.
    "fastmath": {"nsz"},
    "boundscheck": False,
}
PLAIN = {
    "nogil": True,
    "cache": True,
    "error_model": "numpy",
    "boundscheck": False,
}  # of what is measured, where nothing hangs on the last bit
f32, i32, u32 = np.float32, np.int32, np.uint32
FOUR, EIGHT, FLAT = (None,) * 4, (None,) * 8, (None,) * 16  # values side by side
NEAR = len(EIGHT)
SUMMED = 2 * BLOCK  # samples of each channel that are added up at a time
TINY = f32(1e-15)  # states below -300 dB are set to zero, far above the denormal range
FLOOR = f32(1e-9)  # envelope floor, -180 dBFS
DB_PER_OCTAVE = f32(units.DB_PER_OCTAVE)
HALF_DB_PER_OCTAVE = f32(units.DB_PER_OCTAVE / 2.0)
OCTAVE_PER_DB = f32(1.0 / units.DB_PER_OCTAVE)

CORE = Path(__file__).parent.parent
KEPT = "kernels-"


def sources() -> list[Path]:
    """Return the files of which compiled code is made."""
    return sorted([*CORE.rglob("_*.py"), CORE / "dsp" / "lanes.py", Path(__file__)])


def _folder() -> Path:
    """Return where compiled code is kept: by what it was made of, because the compiler's own cache watches one file only and loops call each other across
    files.
    """
    content = hashlib.sha256()
    for path in sources():
        if path.name != "__init__.py":
            content.update(path.read_bytes())
    return CORE / "__pycache__" / f"{KEPT}{content.hexdigest()[:16]}"


FOLDER = _folder()
if not os.environ.get("NUMBA_CACHE_DIR"):
    config.CACHE_DIR = str(FOLDER)


def made_for(*kernels: Callable) -> dict[int, SimpleNamespace]:
    """Return kernels by the width of the banks that they are made for."""
    return {
        width: SimpleNamespace(**{kernel.__name__: partial(kernel, (None,) * width) for kernel in kernels})
        for width in WIDTHS
    }


@njit(**OPTIONS)
def room(values):
    """Return so many values of any content, from a line of the processor's cache on: a row that lies across two takes twice as long to read."""
    some = np.empty(values + LINE, np.float32)
    first = -(some.ctypes.data >> 2) & (LINE - 1)
    return some[first : first + values]
