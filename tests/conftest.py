"""Fixtures that all tests share: small generated kits with their truth."""

import pytest

from tests.kits import SmallKit, small_kit


@pytest.fixture(scope="session")
def straight() -> SmallKit:
    """A straight rock beat, 8 bars."""
    return small_kit(seed=4101, style="straight", bpm=117.0, bars=8)


@pytest.fixture(scope="session")
def ghosts() -> SmallKit:
    """Busy sixteenths with ghost notes and every hard case."""
    return small_kit(seed=4202, style="busy", bpm=96.0, bars=8, hard=True)
