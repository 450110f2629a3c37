"""Fixtures that all tests share: small generated kits with their truth."""

import os

import pytest

from tests.kits import SmallKit, small_kit

# Playwright's loop of events runs on in the thread of the tests until a process ends; Django then takes every one after it for asynchronous.
os.environ.setdefault("DJANGO_ALLOW_ASYNC_UNSAFE", "true")


@pytest.fixture(scope="session")
def straight() -> SmallKit:
    """A straight rock beat, 8 bars."""
    return small_kit(seed=4101, style="straight", bpm=117.0, bars=8)


@pytest.fixture(scope="session")
def ghosts() -> SmallKit:
    """Busy sixteenths with ghost notes and every hard case."""
    return small_kit(seed=4202, style="busy", bpm=96.0, bars=8, hard=True)
