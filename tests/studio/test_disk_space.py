"""Room on the disk, and a user's share of it: what counts, what stays free, and what is left where there is none."""

import errno
from datetime import timedelta
from types import SimpleNamespace

import numpy as np
import pytest
import soundfile
from django.utils import timezone

from arkund.core.errors import SettingsError, StorageError
from arkund.core.files import room
from arkund.studio.models import Job, MicRecording, Print, Take
from arkund.studio.services import archiving, backing, housekeeping, owner, quarantine, reserve, store, uploads
from arkund.studio.services.printing import print_session

pytestmark = pytest.mark.django_db


@pytest.fixture
def anna(session, django_user_model):
    """A user whose session it is."""
    user = django_user_model.objects.create_user("anna", password="a longer word")
    session.members.add(user)
    return user


def recorded_bytes(session) -> int:
    rows = dict(MicRecording.objects.filter(take__session=session).values_list("digest", "length"))
    return 4 * sum(rows.values())


class TestShare:
    """What counts as a user's."""

    def test_recordings_prints_and_what_can_come_back(self, session, anna):
        """A print counts; a deleted session's recordings and prints go on counting while they can be brought back, and no longer."""
        recorded = recorded_bytes(session)
        assert uploads.used_bytes(anna.pk) == recorded
        print_session(session, store.prints_folder() / f"{session.pk}" / "one", "wav24")
        printed = sum(each.stat().st_size for each in (store.prints_folder() / f"{session.pk}" / "one").iterdir())
        assert printed > recorded / 2
        assert uploads.used_bytes(anna.pk) == recorded + printed
        housekeeping.remove(session)
        assert not Print.objects.exists()
        headers = uploads.used_bytes(anna.pk) - recorded - printed
        assert 0 <= headers < 200 * 40  # of the files themselves
        (day,) = quarantine.days()
        assert 0 <= day.bytes - uploads.used_bytes(anna.pk) < 50_000  # the session's card, which says what it was
        quarantine.let_go(day)
        assert uploads.used_bytes(anna.pk) == 0

    def test_brought_back(self, session, anna):
        """What was put aside comes back whole; nothing that was written beside it stays."""
        recorded = recorded_bytes(session)
        housekeeping.remove(session)
        assert uploads.used_bytes(anna.pk) > recorded - 1
        back = quarantine.bring_back()
        assert sum(path.stat().st_size for path in back) >= recorded
        assert uploads.used_bytes(anna.pk) == 0
        assert not list(quarantine.folder().rglob(quarantine.OWNERS))

    def test_what_was_uploaded_for_work_that_failed(self, session, anna):
        """Counts while it can be started again; after a week nobody will, and the next start lets it go."""
        recorded, folder = recorded_bytes(session), store.incoming_folder() / "upload"
        folder.mkdir(parents=True)
        (folder / "long.wav").write_bytes(b"x" * 5000)
        job = Job.objects.create(kind="import", user=anna, state=Job.FAILED, arguments={"folder": "upload"})
        assert uploads.used_bytes(anna.pk) == recorded + 5000
        housekeeping.clear_up()
        assert folder.exists()
        Job.objects.filter(pk=job.pk).update(beat=timezone.now() - timedelta(days=8))
        housekeeping.clear_up()
        assert not folder.exists()
        assert uploads.used_bytes(anna.pk) == recorded
        assert Job.objects.get(pk=job.pk).state == Job.CANCELLED

    def test_a_backing_track_by_what_it_unpacks_to(self, session, tmp_path):
        """A minute of quiet music is a small file; its share is asked for before anything is kept."""
        path, asked = tmp_path / "music.flac", []
        soundfile.write(path, np.zeros((60 * 44_100, 2), np.int16), 44_100)
        assert path.stat().st_size < 100_000

        def refused(wanted_bytes: int) -> None:
            asked.append(wanted_bytes)
            raise StorageError("no room")

        with pytest.raises(StorageError):
            backing.load(session, path, allowed=refused)
        assert asked == [60 * session.sample_rate_hz * 2 * 4]
        assert not Take.everything.filter(session=session, kind=Take.BACKING).exists()


class TestKeptFree:
    """Whatever is written, some room is left for the database."""

    @pytest.fixture
    def nearly_full(self, monkeypatch):
        """A disk on which nothing more than what stays free is left."""
        monkeypatch.setattr(room.shutil, "disk_usage", lambda _: SimpleNamespace(free=room.KEPT_FREE_BYTES + 1000))

    @pytest.mark.parametrize("format_name", ["wav24", "flac24", "wav32f"])
    def test_a_print(self, session, nearly_full, tmp_path, format_name):
        """It is refused before it begins; nothing is left of it."""
        with pytest.raises(StorageError, match="too little room"):
            print_session(session, tmp_path / "print", format_name)
        assert not list(tmp_path.iterdir())
        assert not Print.objects.exists()

    def test_an_archive(self, session, nearly_full, tmp_path):
        """Likewise, recording by recording."""
        with pytest.raises(StorageError, match="too little room"):
            archiving.archive(session, tmp_path / "one.zip")
        assert not list(tmp_path.iterdir())

    def test_a_print_as_one_file(self, session, client, monkeypatch):
        """The zip of a print, made when it is asked for."""
        print_session(session, store.prints_folder() / f"{session.pk}" / "one", "wav24")
        made = Print.objects.get()
        monkeypatch.setattr(room.shutil, "disk_usage", lambda _: SimpleNamespace(free=room.KEPT_FREE_BYTES + 1000))
        answer = client.get(f"/s/{session.pk}/prints/{made.pk}.zip")
        assert answer.status_code == 507
        assert not list(store.prints_folder().rglob("*.zip"))


class TestReserve:
    """What is given up where the disk is full."""

    @pytest.fixture
    def disk(self, settings, monkeypatch):
        """A disk with so much room beside the reserve; ``left`` can be set."""
        this = SimpleNamespace(left=room.KEPT_FREE_BYTES + 2 * reserve.RESERVE_BYTES)

        def free(_):
            held = sum(path.stat().st_size for path in settings.DATA.glob(".reserve"))
            return SimpleNamespace(free=this.left - held)

        monkeypatch.setattr(reserve.shutil, "disk_usage", free)
        return this

    def test_held_and_given_up(self, settings, disk):
        """Held where there is room, given up with a word where there is none, and held again once there is."""
        reserve.hold()
        assert (settings.DATA / ".reserve").stat().st_size == reserve.RESERVE_BYTES
        assert reserve.give_up() == ""
        disk.left = reserve.RESERVE_BYTES
        assert "The disk is full" in reserve.give_up()
        assert not (settings.DATA / ".reserve").exists()
        reserve.hold()
        assert not (settings.DATA / ".reserve").exists()
        disk.left = room.KEPT_FREE_BYTES + 2 * reserve.RESERVE_BYTES
        reserve.hold()
        assert (settings.DATA / ".reserve").exists()

    def test_without_one(self, disk):
        """A full disk on which none was held is told as that, with what is needed."""
        disk.left = 1000
        with pytest.raises(StorageError, match=r"0\.0 MB are free .* 4 MB are needed to start"):
            reserve.give_up()

    def test_who_owns_the_folder(self, monkeypatch):
        """Where a full disk takes no words, the lock holds all the same."""

        def full(_):
            raise OSError(errno.ENOSPC, "no space left on device")

        monkeypatch.setattr(owner.json, "dumps", full)
        with (
            owner.owning("serves"),
            pytest.raises(SettingsError, match="another process owns it"),
            owner.owning("repairs"),
        ):
            pass
