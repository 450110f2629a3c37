"""The doctor finds what is wrong with a data folder, repairs what it can, and says so."""

import shutil

import numpy as np
import pytest

from arkund.core.errors import AudioError, SettingsError
from arkund.core.files.library import forget_opened
from arkund.studio.models import Job, MicRecording, Print
from arkund.studio.services import quarantine, store
from arkund.studio.services.doctor import examine
from arkund.studio.services.printing import print_session
from arkund.studio.services.recordings import recordings_of

pytestmark = pytest.mark.django_db


def complaints(**how) -> list[str]:
    return [c.what for c in examine(repair=False, **how)]


class TestExamine:
    """One fault at a time."""

    def test_all_is_well(self, session, tmp_path):
        """A session with a print."""
        print_session(session, store.prints_folder() / "1" / "a")
        assert complaints() == []

    def test_left_overs(self, session):
        """Temporary and unused files are named; where asked, what is unfinished is deleted and what is whole put aside."""
        left = [
            store.audio_folder() / ".new-x.npy",
            store.audio_folder() / f"{'0' * 64}.npy",
            store.prints_folder() / ".printing-y",
            store.prints_folder() / "1" / "nobodys",
        ]
        for path in left:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x")
        assert len(complaints()) == 4
        assert all(path.exists() for path in left)
        assert all(c.repaired for c in examine(repair=True))
        assert not any(path.exists() for path in left)
        assert sorted(path.name for path in quarantine.folder().rglob("*") if path.is_file()) == [
            "0" * 64 + ".npy",
            "nobodys",
        ]
        assert complaints() == []

    def test_a_missing_recording(self, session, folder):
        """It is named; pages say it in words; the original files heal it."""
        row = MicRecording.objects.get(take__session=session, mic="sn-top")
        store.audio_path(row.digest).unlink()
        forget_opened()
        with pytest.raises(AudioError, match="arkund doctor"):
            recordings_of(session).mic("take-1", "sn-top")
        assert ["SN top.wav" in what and "missing" in what for what in complaints()] == [True]
        healed = examine(repair=True, heal_from=folder)
        assert all(c.repaired for c in healed)
        assert recordings_of(session).mic("take-1", "sn-top").length == row.length
        assert complaints() == []

    def test_a_damaged_recording(self, session, folder):
        """Samples that changed are told by their checksum."""
        path = store.audio_path(MicRecording.objects.get(take__session=session, mic="kd-in").digest)
        samples = np.load(path)
        samples[1000] += 0.25
        np.save(path, samples)
        assert ["not those that were imported" in what for what in complaints()] == [True]
        examine(repair=True, heal_from=folder)
        assert complaints() == []

    def test_a_print_that_went_or_changed(self, session):
        """Files of prints are held against their checksums."""
        folder = store.prints_folder() / "1" / "a"
        print_session(session, folder)
        next(folder.glob("01*.wav")).write_bytes(b"changed")
        assert ["not what was printed" in what for what in complaints()] == [True]
        shutil.rmtree(folder)
        assert ["its folder is gone" in what for what in complaints()] == [True]
        examine(repair=True)
        assert not Print.objects.exists()

    def test_a_job_whose_process_is_gone(self, session):
        """It is marked as failed."""
        job = Job.objects.create(kind="print", title="print", session=session, state=Job.RUNNING, owner="4194305@1.00")
        assert ["its process is gone" in what for what in complaints()] == [True]
        examine(repair=True)
        job.refresh_from_db()
        assert job.state == Job.FAILED

    def test_a_damaged_plan(self, session):
        """A Plan that cannot be read is said, with the session's name."""
        session.plan_json["mics"][0]["trim_db"] = "loud"
        session.save()
        assert [session.name in what and "Plan is damaged" in what for what in complaints()] == [True]

    def test_not_while_audio_is_written(self, session):
        """What an import is just writing is nobody's yet, and must not be taken for a left-over."""
        with store.being_written(), pytest.raises(SettingsError, match="an import is writing"):
            examine(repair=True)
