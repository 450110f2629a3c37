"""Recordings on disk and imported sessions for the tests of services and pages."""

from pathlib import Path

import pytest
import soundfile

from arkund.core.files.library import forget_opened
from arkund.studio.services import moves, proposing, settling, solving, store
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
    """Bringing a kit to its targets takes a second a round, and each mic's shaper and compressor are solved in turns; what is not about that tries once."""
    if request.module.__name__ != "tests.studio.test_carding":
        monkeypatch.setattr(settling, "ROUNDS", 1)
    if request.module.__name__ != "tests.studio.test_solving":
        monkeypatch.setattr(solving, "MOST_ROUNDS", 1)


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


_proposed: dict = {}  # the Plan that the one click makes of the little kit, once a process


@pytest.fixture
def proposed(session):
    """The little kit with everything proposed, as one Move."""
    if not _proposed:
        proposing.propose_all(session.pk)
        session.refresh_from_db()
        _proposed.update(session.plan.to_json())
        return session
    known = session.plan.to_json()
    moves.apply(session.pk, {k: v for k, v in _proposed.items() if v != known[k]}, step="kit", title="all of it")
    session.refresh_from_db()
    return session
