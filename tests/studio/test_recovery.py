"""A database that is lost, older or damaged costs no recording, and everything can be brought back."""

import os
import shutil
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psutil
import pytest

from arkund.core.errors import AudioError, SettingsError, StorageError
from arkund.studio.models import MicRecording, Session
from arkund.studio.services import archiving, cards, copies, housekeeping, opening, owner, quarantine, recovery, store
from arkund.studio.services.doctor import examine
from arkund.studio.services.importing import import_folder
from arkund.studio.services.printing import print_session
from arkund.studio.services.recordings import recordings_of
from tests.studio.doing import apply

ARKUND = [sys.executable, "-c", "from arkund.studio.cli.main import main; main()"]


def arkund(data: Path, *words: str) -> subprocess.CompletedProcess:
    """Run a command on a data folder of its own."""
    env = os.environ | {"ARKUND_DATA": str(data)}
    return subprocess.run([*ARKUND, *words], env=env, capture_output=True, text=True, timeout=120)


def audio_of(data: Path) -> set[str]:
    return {path.name for path in (data / "audio").glob("*.npy")}


@pytest.fixture(scope="module")
def base(folder, tmp_path_factory) -> Path:
    """A data folder with one session."""
    data = tmp_path_factory.mktemp("base") / "data"
    assert arkund(data, "import", str(folder), "--name", "Kept").returncode == 0
    return data


@pytest.fixture
def data(base, tmp_path) -> Path:
    return Path(shutil.copytree(base, tmp_path / "data"))


class TestLostDatabase:
    """What stood there before is not made anew in its place."""

    @pytest.mark.parametrize("how", ["empty", pytest.param("garbage", marks=pytest.mark.long)])
    def test_refused_then_rebuilt(self, data, how):
        """Every command refuses and says what to do; recordings stay; the cards bring the session back."""
        before, database = audio_of(data), data / "arkund.sqlite3"
        if how == "missing":
            database.unlink()
        else:
            database.write_bytes(b"" if how == "empty" else b"no database at all" * 500)
        for words in (("serve", "--port", "1"), ("sessions",))[: 2 if how == "garbage" else 1]:
            said = arkund(data, *words)
            assert said.returncode == 2
            assert "doctor --from-audio" in said.stderr
        assert audio_of(data) == before
        rebuilt = arkund(data, "doctor", "--from-audio")
        assert rebuilt.returncode == 0, rebuilt.stdout + rebuilt.stderr
        assert "(Kept): rebuilt from its card" in rebuilt.stdout
        assert audio_of(data) == before
        if how == "garbage":
            assert "All is well" in arkund(data, "doctor").stdout

    @pytest.mark.long
    def test_an_older_one(self, data, folder, tmp_path):
        """A copy from before an import does not know that session: refused, and nothing is taken for rubbish."""
        old = tmp_path / "old.sqlite3"
        with closing(sqlite3.connect(data / "arkund.sqlite3")) as source, closing(sqlite3.connect(old)) as copy:
            source.backup(copy)
        shutil.copytree(folder, tmp_path / "Second")
        (tmp_path / "Second" / "SN top.wav").unlink()
        assert arkund(data, "import", str(tmp_path / "Second")).returncode == 0
        shutil.copy(old, data / "arkund.sqlite3")
        said = arkund(data, "serve", "--port", "0")
        assert said.returncode == 2
        assert "older than the recordings" in said.stderr
        assert "Second" in said.stderr
        assert "(Second): rebuilt from its card" in arkund(data, "doctor", "--from-audio").stdout


class TestCopies:
    """The database's own copies."""

    def test_kept_while_it_changes_and_brought_back(self, tmp_path, monkeypatch):
        """A copy for each change, none without, the oldest go; a damaged database takes no copy's place."""
        database = tmp_path / "arkund.sqlite3"
        monkeypatch.setattr(copies, "database", lambda: database)
        monkeypatch.setattr(copies, "folder", lambda: tmp_path / "copies")
        monkeypatch.setattr(copies, "KEPT", 3)

        def write(value: int) -> None:
            with closing(sqlite3.connect(database)) as opened, opened:
                opened.execute("CREATE TABLE IF NOT EXISTS t (x)")
                opened.execute("INSERT INTO t VALUES (?)", (value,))
            os.utime(database, (time.time() + value, time.time() + value))

        for value in range(5):
            write(value)
            assert copies.keep() is not None
        os.utime(database, (1.0, 1.0))
        assert copies.keep() is None
        assert len(copies.kept()) == 3
        with closing(sqlite3.connect(copies.kept()[0])) as opened:
            assert opened.execute("SELECT count(*) FROM t").fetchone() == (5,)
        assert copies.kept()[0].stat().st_mode & 0o077 == 0
        whole = copies.kept()
        database.write_bytes(b"damaged" * 1000)
        with pytest.raises(sqlite3.DatabaseError):
            copies.keep()
        assert copies.kept() == whole

    def test_a_clock_that_was_ahead(self, tmp_path, monkeypatch):
        """A copy from a day that is still to come neither stops copies nor counts as the newest."""
        database = tmp_path / "arkund.sqlite3"
        monkeypatch.setattr(copies, "database", lambda: database)
        monkeypatch.setattr(copies, "folder", lambda: tmp_path / "copies")
        with closing(sqlite3.connect(database)) as opened, opened:
            opened.execute("CREATE TABLE t (x)")
        first = copies.keep()
        ahead = first.with_name("arkund-20300101-000000-000000.sqlite3")
        first.rename(ahead)
        os.utime(ahead, (datetime(2030, 1, 1, tzinfo=UTC).timestamp(),) * 2)
        made = copies.keep()
        assert made is not None
        assert copies.kept() == [made, ahead]
        assert copies.keep() is None

    @pytest.mark.parametrize(
        "words", ["unable to open database file", "attempt to write a readonly database", "disk I/O error"]
    )
    def test_what_cannot_be_got_at_is_not_damaged(self, tmp_path, monkeypatch, words):
        """A disk that is away, read-only or somebody else's: nobody is told to bring a copy back in place of a whole database."""
        database = tmp_path / "arkund.sqlite3"
        database.write_bytes(b"something")

        def refused(*_):
            raise sqlite3.OperationalError(words)

        monkeypatch.setattr(copies, "database", lambda: database)
        monkeypatch.setattr(opening.connection, "is_in_memory_db", lambda: False)
        monkeypatch.setattr(sqlite3, "connect", refused)
        for check in (opening.check, opening.check_whole):
            with pytest.raises(StorageError, match=r"cannot be opened .*may this user read and write") as said:
                check()
            assert "bring-back" not in str(said.value)

    def test_a_disk_that_refuses_keeps_nobody_from_working(self, monkeypatch, caplog, db):
        """A start goes on without a copy, and says so in the log."""
        monkeypatch.setattr(
            copies, "keep", lambda: (_ for _ in ()).throw(sqlite3.OperationalError("database or disk is full"))
        )
        copies.keep_if_possible()
        assert "could not be copied" in caplog.text

    @pytest.mark.long
    def test_the_newest_whole_one_takes_its_place(self, data):
        """By command; what stood there is put aside, and a damaged copy is passed over."""
        with closing(sqlite3.connect(data / "arkund.sqlite3")) as source:
            (data / "copies").mkdir()
            for name in ("arkund-20260101-000000-0.sqlite3", "arkund-20260102-000000-0.sqlite3"):
                with closing(sqlite3.connect(data / "copies" / name)) as copy:
                    source.backup(copy)
        (data / "copies" / "arkund-20260102-000000-0.sqlite3").write_bytes(b"damaged" * 1000)
        (data / "arkund.sqlite3").write_bytes(b"")
        said = arkund(data, "doctor", "--bring-back-database")
        assert said.returncode == 0, said.stdout + said.stderr
        assert "arkund-20260101" in said.stdout
        assert "no whole copy" in arkund(data, "doctor", "--bring-back-database", "nothing").stderr


@pytest.mark.django_db
class TestQuarantine:
    """Nothing whole is deleted."""

    def test_a_deleted_session_comes_back(self, session, little):
        """Its recordings and its card are put aside; brought back, it is the same with its logbook."""
        apply(session.pk, {"mics.sn-top.trim_db": -2.0}, step="level", title="Softer")
        session.refresh_from_db()  # the card is an hour old: it is written once more as the session goes
        digests = set(MicRecording.objects.values_list("digest", flat=True))
        housekeeping.remove(session)
        assert not Session.objects.exists()
        assert not list(store.audio_folder().glob("*.npy"))
        assert opening.older() == ""
        quarantine.bring_back(datetime.now(UTC).date().isoformat())
        made, faults = cards.rebuild_all()
        assert faults == []
        assert [(m.uid, m.plan.mic("sn-top").trim_db, m.moves.get().title) for m in made] == [
            (session.uid, -2.0, "Softer")
        ]
        assert {path.stem for path in store.audio_folder().glob("*.npy")} == digests
        assert recordings_of(made[0]).mic("take-1", "sn-top").length > 0
        assert list(quarantine.days()) == []

    def test_its_prints_come_back_with_it(self, session):
        """Noted again, and still there after the next start: also where the database is a copy from before the print, or the print's session has another
        number now.
        """
        folder = store.prints_folder() / str(session.pk) / "a print"
        print_session(session, folder)
        said = session.prints.get().manifest
        session.prints.all().delete()
        housekeeping.clear_up()
        assert (session.prints.get().folder, session.prints.get().manifest) == (str(folder), said)
        housekeeping.remove(session)
        assert not folder.exists()
        recovery.recover(day=datetime.now(UTC).date().isoformat())
        housekeeping.clear_up()
        row = Session.objects.get(uid=session.uid).prints.get()
        assert (Path(row.folder), row.version, row.manifest) == (folder, said["plan_version"], said)
        assert examine(repair=False) == []

    def test_what_another_session_uses_stays(self, session, tmp_path):
        """Recordings are shared by their contents."""
        twin = archiving.restore(archiving.archive(session, tmp_path / "a.zip"))
        housekeeping.remove(session)
        assert examine(repair=False) == []
        assert recordings_of(twin).mic("take-1", "sn-top").length > 0

    def test_kept_for_a_month(self, session):
        """Then only the doctor's repair lets it go."""
        unused = store.audio_folder() / f"{'0' * 64}.npy"
        unused.write_bytes(b"x")
        lies = quarantine.put_aside(unused)
        old = quarantine.folder() / (datetime.now(UTC).date() - timedelta(days=32)).isoformat()
        lies.parent.parent.rename(old)
        housekeeping.clear_up()
        assert list(old.rglob("*.npy"))
        assert [c.repaired for c in examine(repair=True) if "quarantine" in c.what] == [True]
        assert not old.exists()

    def test_a_former_database_never_returns(self):
        """Its journal beside another database would damage that."""
        wal = Path(store.audio_folder().parent / "arkund.sqlite3-wal")
        wal.write_bytes(b"x")
        quarantine.put_aside(wal)
        assert quarantine.bring_back("all") == []
        with pytest.raises(SettingsError, match="there is"):
            quarantine.bring_back("1999-01-01")


@pytest.mark.django_db
class TestCards:
    """What lies beside the recordings."""

    def test_written_with_the_session_and_after_changes(self, session):
        """It names take, mic, rate and hash; hourly what changed is written again."""
        said = cards.contents(cards.path_of(session.uid))
        assert said["sample_rate_hz"] == session.sample_rate_hz
        assert {mic["digest"] for mic in said["takes"][0]["mics"]} == set(
            MicRecording.objects.values_list("digest", flat=True)
        )
        apply(session.pk, {"mics.sn-top.trim_db": -2.0}, step="level", title="Softer")
        cards.refresh()
        assert cards.contents(cards.path_of(session.uid))["plan"]["mics"] != said["plan"]["mics"]

    def test_a_recording_that_changed_is_not_taken(self, session):
        """A card's session is made of what was imported, or not at all."""
        digest = MicRecording.objects.filter(mic="sn-top").get().digest
        Session.objects.all().delete()
        path = store.audio_path(digest)
        data = bytearray(path.read_bytes())
        data[-5] ^= 1
        path.write_bytes(data)
        made, faults = cards.rebuild_all()
        assert made == []
        assert "does not hold what was imported" in faults[0]
        path.unlink()
        with pytest.raises(AudioError, match="missing"):
            cards.rebuild(cards.read_all()[0])

    def test_a_disk_that_refuses_costs_the_card_alone(self, folder, monkeypatch):
        """The session stands, and its card follows at the next start."""
        monkeypatch.setattr(cards, "write", lambda session: (_ for _ in ()).throw(OSError(28, "full")))
        session = import_folder(folder)
        assert not cards.path_of(session.uid).exists()
        monkeypatch.undo()
        housekeeping.clear_up()
        assert cards.path_of(session.uid).exists()

    def test_a_newer_card_is_not_lost(self, session):
        """Where the database knows the session as it once was, both are kept."""
        apply(session.pk, {"mics.sn-top.trim_db": -2.0}, step="level", title="Softer")
        cards.refresh()
        session.moves.all().delete()
        Session.objects.filter(pk=session.pk).update(plan_json=session.plan_json, version=0)
        assert "older" in opening.older()
        made, _ = cards.rebuild_all()
        assert made[0].name == f"{session.name} (from its card)"
        assert made[0].plan.mic("sn-top").trim_db == -2.0
        assert opening.older() == ""


class TestOwner:
    """One process clears up and repairs."""

    @pytest.mark.long
    def test_a_second_one_is_told_who(self, data):
        """Before it touches anything: the print that is just being made stays."""
        making = data / "prints" / "1" / ".printing-x"
        making.mkdir(parents=True)
        (making / "01.wav").write_bytes(b"x")
        env = os.environ | {"ARKUND_DATA": str(data)}
        holds = "import time, django; django.setup()\nfrom arkund.studio.services import owner\n"
        holds += "with owner.owning('serves http://somewhere/'):\n print('held', flush=True); time.sleep(60)"
        first = subprocess.Popen(
            [sys.executable, "-c", holds],
            env=env | {"DJANGO_SETTINGS_MODULE": "arkund.studio.settings"},
            stdout=subprocess.PIPE,
            text=True,
        )
        assert first.stdout.readline() == "held\n"
        try:
            for words in (("serve", "--port", "0"), ("doctor", "--repair"), ("doctor", "--from-audio")):
                said = arkund(data, *words)
                assert said.returncode == 2, words
                assert f"process {first.pid} serves http://somewhere/" in said.stderr
            assert (making / "01.wav").exists()
            assert arkund(data, "sessions").returncode == 0
        finally:
            first.kill()
            first.wait()
        assert arkund(data, "doctor", "--repair").returncode == 0
        assert not making.exists()

    def test_a_mark_is_one_process(self):
        """Neither a dead process nor another one of its number."""
        assert owner.alive(owner.mark())
        number = owner.mark().partition("@")[0]
        assert not owner.alive(f"{number}@1.00")
        assert not owner.alive("")
        assert not owner.alive(f"{max(psutil.pids()) + 100_000}@1.00")


class TestPrivate:
    """What others on this machine may read."""

    @pytest.mark.long
    def test_nothing(self, data):
        """The folder and the database are the owner's alone, also after they were not."""
        data.chmod(0o755)
        (data / "arkund.sqlite3").chmod(0o644)
        arkund(data, "sessions")
        assert data.stat().st_mode & 0o777 == 0o700
        assert (data / "arkund.sqlite3").stat().st_mode & 0o777 == 0o600
