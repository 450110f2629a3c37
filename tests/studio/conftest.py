"""Recordings on disk and imported sessions for the tests of services and pages."""

import fcntl
import json
import os
import shutil
from pathlib import Path

import pytest
import soundfile

from arkund.core import tasks
from arkund.core.files.library import forget_opened
from arkund.studio.services import kit_solver, proposing, solving, store
from arkund.studio.services.importing import import_folder
from tests.kits import SmallKit, small_kit
from tests.studio.doing import apply

FINDING = ("tests.studio.test_cluster", "tests.studio.test_jobs")
_found: dict[tuple, dict] = {}


@pytest.fixture(autouse=True)
def own_data(settings, tmp_path_factory):
    """Each test has a data folder of its own, as long as it lasts."""
    settings.DATA = tmp_path_factory.mktemp("own data")
    settings.PASSWORD_HASHERS = [
        "django.contrib.auth.hashers.MD5PasswordHasher"
    ]  # a real one takes a second, as it should
    settings.FILE_UPLOAD_TEMP_DIR = store.incoming_folder()
    forget_opened()
    yield
    shutil.rmtree(settings.DATA, ignore_errors=True)


@pytest.fixture(autouse=True)
def few_rounds(request, monkeypatch):
    """Trying all levers of a kit takes seconds, and each mic's shaper and compressor are solved in turns; what is not about that tries none, or once."""
    if request.module.__name__ != "tests.studio.test_carding":
        monkeypatch.setattr(kit_solver, "SWEEPS", 0)
    if request.module.__name__ != "tests.studio.test_solving":
        monkeypatch.setattr(solving, "MOST_ROUNDS", 1)


@pytest.fixture(autouse=True)
def hits_found_once(request, monkeypatch):
    """The same recordings with the same names have the same hits: they are found once in a process, except where finding is looked at."""
    if request.module.__name__ in FINDING:
        return
    find = tasks.hits_of_take

    def found(recordings, take, mics, channels, work):
        key = (recordings.sample_rate_hz, *((recordings.content(take, mic), each) for mic, each in zip(mics, channels, strict=True)))  # fmt: skip
        if key not in _found:
            _found[key] = find(recordings, take, mics, channels, work)
        work.progress(1.0)
        return _found[key]

    monkeypatch.setattr(tasks, "hits_of_take", found)


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


def _proposed_plan(session, kept: Path) -> dict:
    """Return the Plan that the one click makes of the little kit: made by the first who asks, on whichever processor."""
    with kept.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not kept.exists():
            proposing.propose_all(session.pk)
            session.refresh_from_db()
            kept.write_text(json.dumps(session.plan.to_json()))
    return json.loads(kept.read_text())


@pytest.fixture
def proposed(session, tmp_path_factory):
    """The little kit with everything proposed, as one Move."""
    own = tmp_path_factory.getbasetemp()
    wanted = _proposed_plan(session, (own.parent if "PYTEST_XDIST_WORKER" in os.environ else own) / "proposed.json")
    known = session.plan.to_json()
    if changed := {k: v for k, v in wanted.items() if v != known[k]}:
        apply(session.pk, changed, step="kit", title="all of it")
    session.refresh_from_db()
    return session
