"""Recordings on disk and imported sessions for the tests of services and pages."""

from pathlib import Path

import pytest
import soundfile

from arkund.core.files.library import forget_opened
from arkund.studio.services import settling, store
from arkund.studio.services.importing import import_folder
from tests.kits import SmallKit, small_kit


@pytest.fixture(autouse=True)
def own_data(settings, tmp_path_factory):
    """Each test has a data folder of its own."""
    settings.DATA = tmp_path_factory.mktemp("own data")
    settings.FILE_UPLOAD_TEMP_DIR = store.incoming_folder()
    forget_opened()


@pytest.fixture(autouse=True)
def few_rounds(request, monkeypatch):
    """Bringing a kit to its targets takes a second a round; what is not about that tries one."""
    if request.module.__name__ != "tests.studio.test_carding":
        monkeypatch.setattr(settling, "ROUNDS", 1)


@pytest.fixture(scope="session")
def little() -> SmallKit:
    """Four bars, seven mics."""
    drop = ("Kik sub", "Talkback", "Rm L", "Rm R", "Rm mono", "Ride", "T2", "OH R", "FT")
    return small_kit(seed=881, style="straight", bpm=120.0, bars=4, drop=drop, play_with={"floor_fills": False})


@pytest.fixture(scope="session")
def folder(little, tmp_path_factory) -> Path:
    """The little kit as a folder of 24-bit files."""
    to = tmp_path_factory.mktemp("recordings") / "Little Kit"
    to.mkdir()
    for name, audio in little.audio.items():
        soundfile.write(to / f"{name}.wav", audio, little.sample_rate_hz, subtype="PCM_24")
    return to


@pytest.fixture
def session(db, folder):
    """The little kit, imported."""
    return import_folder(folder, bpm=120.0)
