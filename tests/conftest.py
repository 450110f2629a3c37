"""Fixtures that all tests share: a data folder of their own, and small generated kits with their truth."""

import os
import tempfile
from pathlib import Path

# Tests never touch a user's data folder. The settings may have been read before this file, so both are told.
os.environ["ARKUND_BACKGROUND"] = "0"
os.environ["ARKUND_DATA"] = tempfile.mkdtemp(prefix="arkund-test-")

import pytest
from django.conf import settings

settings.DATA, settings.BACKGROUND = Path(os.environ["ARKUND_DATA"]), False
settings.FILE_UPLOAD_TEMP_DIR = settings.DATA / "incoming"
settings.FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)

from tests.kits import SmallKit, small_kit


@pytest.fixture(scope="session")
def straight() -> SmallKit:
    """A straight rock beat, 8 bars."""
    return small_kit(seed=4101, style="straight", bpm=117.0, bars=8)


@pytest.fixture(scope="session")
def ghosts() -> SmallKit:
    """Busy sixteenths with ghost notes and every hard case."""
    return small_kit(seed=4202, style="busy", bpm=96.0, bars=8, hard=True)
