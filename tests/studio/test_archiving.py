"""A session leaves as one file and returns the same; what is damaged or hostile is refused and leaves nothing."""

import hashlib
import json
import shutil
import zipfile
from pathlib import Path

import numpy as np
import pytest
import soundfile

from arkund.core.errors import AudioError, CancelledError, SettingsError
from arkund.core.findings import Finding
from arkund.studio.models import MicRecording, Session, Take
from arkund.studio.services import archiving, cards, housekeeping, moves, quarantine, rigging, store
from arkund.studio.services.doctor import examine
from arkund.studio.services.document import describe
from arkund.studio.services.importing import import_folder
from arkund.studio.services.printing import print_session
from arkund.studio.services.recordings import find, found
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db


@pytest.fixture(scope="module")
def kept(tmp_path_factory) -> Path:
    return tmp_path_factory.mktemp("packed")


@pytest.fixture
def packed(db, folder, kept, tmp_path) -> Path:
    """The little kit with a logbook, as an archive; the session and its audio are gone. Its print lies in ``kept / before``."""
    if not (kept / "kit.zip").exists():
        session = import_folder(folder, bpm=120.0)
        find(session, session.plan, "take-1")
        apply(session.pk, {"mics.sn-top.trim_db": -2.5}, step="level", title="Softer", reason="too hot")
        apply(session.pk, {"mics.kd-in.tools.gate.on": True}, step="clean", title="Gate")
        moves.undo(session.pk)
        moves.decide_left(session.pk, Finding("level", "level.kit", "", "Kit", ""), "it is right")
        session.refresh_from_db()
        print_session(session, kept / "before", "wav24")
        archiving.archive(session, kept / "kit.zip")
        housekeeping.remove(session)
        shutil.rmtree(quarantine.folder())
    return Path(shutil.copy(kept / "kit.zip", tmp_path))


def rewritten(path: Path, change) -> Path:
    """Copy an archive with its entries {name: bytes} changed."""
    with zipfile.ZipFile(path) as bundle:
        entries = {info.filename: bundle.read(info) for info in bundle.infolist()}
    change(entries)
    out = path.with_name("changed.zip")
    with zipfile.ZipFile(out, "w") as bundle:
        for name, data in entries.items():
            bundle.writestr(name, data)
    return out


def with_contents(entries: dict, change) -> None:
    """Change session.json and its checksum with it."""
    contents = json.loads(entries["session.json"])
    change(contents)
    entries["session.json"] = json.dumps(contents).encode()
    entries["session.sha256"] = hashlib.sha256(entries["session.json"]).hexdigest().encode()


class TestRoundTrip:
    """There and back."""

    def test_prints_the_same(self, packed, kept, tmp_path):
        """Plan, Moves, decisions, hits and every printed byte."""
        back = archiving.restore(packed)
        print_session(back, tmp_path / "after", "wav24")
        for file in (kept / "before").glob("*.wav"):
            assert file.read_bytes() == (tmp_path / "after" / file.name).read_bytes()
        assert [(m.title, m.reason, m.state) for m in back.moves.all()] == [
            ("Softer", "too hot", "done"),
            ("Gate", "", "undone"),
        ]
        assert back.decisions.get().reason == "it is right"
        assert found(back, back.plan, "take-1")["kick"]
        assert moves.redo(back.pk).title == "Gate"

    def test_samples_that_are_no_24_bit_steps(self, tmp_path):
        """Float recordings, also beyond full scale, come back bit by bit."""
        sound = np.random.default_rng(5).normal(0, 0.7, 48_000).astype(np.float32)
        (tmp_path / "in").mkdir()
        soundfile.write(tmp_path / "in" / "SN top.wav", sound, 48_000, subtype="FLOAT")
        session = import_folder(tmp_path / "in")
        path = archiving.archive(session, tmp_path / "a.zip")
        shutil.rmtree(store.audio_folder())
        digest = MicRecording.objects.get(take__session=archiving.restore(path)).digest
        assert np.array_equal(np.load(store.audio_path(digest)), sound)

    def test_cancelled(self, packed, tmp_path):
        """Neither way leaves anything."""
        with pytest.raises(CancelledError):
            archiving.restore(packed, cancelled=lambda: True)
        assert not Session.objects.exists()
        asked = iter([False] * 20)
        with pytest.raises(CancelledError):  # while what it describes is checked
            archiving.restore(packed, cancelled=lambda: next(asked, True), on_progress=lambda *_: pytest.fail("later"))
        back = archiving.restore(packed)
        with pytest.raises(CancelledError):
            archiving.archive(back, tmp_path / "b.zip", cancelled=lambda: True)
        assert not (tmp_path / "b.zip").exists()


class TestWhatIsWritten:
    """Always comes back."""

    def test_names_that_are_too_long(self, session, tmp_path):
        """Are shortened, wherever they came from."""
        Take.objects.filter(session=session).update(name="take " * 60)
        Session.objects.filter(pk=session.pk).update(name="song " * 60)
        back = archiving.restore(archiving.archive(session, tmp_path / "a.zip"))
        assert (len(back.name), len(back.takes.get().name)) == (120, 120)

    def test_as_it_stands_and_not_as_it_was_read(self, session, tmp_path):
        """What was changed since the session was fetched is in it, Plan and logbook alike."""
        old = Session.objects.get(pk=session.pk)
        apply(session.pk, {"mics.sn-top.trim_db": -2.5}, step="level", title="Softer")
        back = archiving.restore(archiving.archive(old, tmp_path / "a.zip"))
        assert back.plan.mic("sn-top").trim_db == -2.5
        assert moves.undo(back.pk).title == "Softer"

    def test_a_logbook_that_is_too_long(self, session, tmp_path, monkeypatch):
        """Its oldest Moves come back in words alone; the newest can still be undone."""
        for k in range(24):
            trims = {f"mics.{mic.id}.trim_db": -0.1 * (k + 1) for mic in session.plan.mics}
            apply(session.pk, trims, step="level", title=f"all softer, {k}")
        plain = len(json.dumps(describe(session)))
        monkeypatch.setattr(archiving, "MOST_JSON_BYTES", plain - 5000)
        back = archiving.restore(archiving.archive(session, tmp_path / "a.zip"))
        closed = [move.closed for move in back.moves.all()]
        assert closed == sorted(closed, reverse=True)
        assert 0 < sum(closed) < 24
        assert list(back.moves.values_list("title", flat=True)) == [f"all softer, {k}" for k in range(24)]
        for _ in range(24 - sum(closed)):
            moves.undo(back.pk)
        with pytest.raises(SettingsError, match="in words alone"):
            moves.undo(back.pk)
        monkeypatch.setattr(archiving, "MOST_JSON_BYTES", 1000)
        with pytest.raises(AudioError, match="larger than"):
            archiving.archive(session, tmp_path / "b.zip")
        assert [path.name for path in tmp_path.iterdir()] == ["a.zip"]

    @pytest.mark.long
    def test_moves_of_many_regions(self, session, tmp_path):
        """Some of them on a row of fifteen hundred are no burden: together they take no more than the row itself."""
        spans = [[1000 * k, 1000 * k + 500] for k in range(1500)]
        session.refresh_from_db()
        rigging.make(session, rigging.add_tool(session, "sn-top", "regions"))
        place = next(
            f"mics.sn-top.tools.{t.id}.spans"
            for t in Session.objects.get(pk=session.pk).plan.mic("sn-top").tools
            if t.kind == "regions"
        )
        for k in range(9):
            apply(
                session.pk,
                {place: [*spans[:k], [1000 * k, 1000 * k + 501], *spans[k + 1 :]]},
                step="clean",
                title="edge",
            )
        assert len(json.dumps(describe(session))) < 120_000
        back = archiving.restore(archiving.archive(session, tmp_path / "a.zip"))
        for each in (session, back):
            for _ in range(8):
                moves.undo(each.pk)
            each.refresh_from_db()
        assert back.plan == session.plan


class TestRefused:
    """Nothing of a bad archive is kept."""

    def refused(self, path: Path, words: str):
        with pytest.raises(AudioError, match=words) as error:
            archiving.restore(path)
        assert str(store.audio_folder().parent) not in str(error.value)
        assert not Session.objects.exists()

    @pytest.mark.parametrize(
        ("name", "words"),
        [
            ("../../evil.flac", "does not belong"),
            ("/etc/cron.d/x", "does not belong"),
            ("audio/x.flac", "does not belong"),
        ],
    )
    def test_path_tricks(self, packed, name, words):
        """Only names of an archive's own kind."""
        self.refused(rewritten(packed, lambda entries: entries.update({name: b"x"})), words)

    def test_wrong_samples(self, packed):
        """The name of a recording is the hash of its samples."""

        def swap(entries):
            names = [name for name in entries if name.endswith(".flac")]
            entries[names[0]], entries[names[1]] = entries[names[1]], entries[names[0]]

        self.refused(rewritten(packed, swap), "not hold the samples|not as long")

    def test_damage(self, packed):
        """A bit that fell over, and a copy that was cut off."""
        data = bytearray(packed.read_bytes())
        data[len(data) // 2] ^= 4
        packed.write_bytes(data)
        self.refused(packed, "copy it again|does not hold|damaged")
        packed.write_bytes(data[: len(data) // 3])
        self.refused(packed, "copy it again")

    def test_contents_without_their_checksum(self, packed):
        """session.json is what was written."""
        self.refused(rewritten(packed, lambda e: e.update({"session.sha256": b"0" * 64})), "checksum")

    def test_bomb(self, packed, tmp_path):
        """Audio is never packed twice, and a description is of a sane size."""
        with zipfile.ZipFile(tmp_path / "bomb.zip", "w", zipfile.ZIP_DEFLATED) as bundle:
            bundle.writestr("session.json", b" " * (65 * 1024**2))
            bundle.writestr("session.sha256", "0" * 64)
        self.refused(tmp_path / "bomb.zip", "larger than 64 MB")
        with zipfile.ZipFile(tmp_path / "bomb2.zip", "w", zipfile.ZIP_DEFLATED) as bundle:
            bundle.writestr(f"audio/{'a' * 64}.flac", b"\0" * 10**7)
        self.refused(tmp_path / "bomb2.zip", "packed twice")

    @pytest.mark.parametrize(
        "change",
        [
            lambda c: c.update(plan={}),
            lambda c: c["plan"]["mics"][0].update(trim_db=1e9),
            lambda c: c.update(takes=None),
            lambda c: c["takes"][0]["mics"][0].update(digest="0" * 64),
            lambda c: c["takes"][0]["mics"][0].update(length=-1),
            lambda c: c["takes"][0]["mics"][0].update(mic="nobody"),
            lambda c: c.update(sample_rate_hz=7),
            lambda c: c.update(version="1"),
            lambda c: c["moves"][0].update(before=[]),
            lambda c: c["takes"].append(c["takes"][0]),
            lambda c: c["hits"].update({"take-1": {"kick": ["x"]}}),
            lambda c: c["hits"].update({"take-1": {"kick": [[1.0, 2.0]]}}),
            lambda c: c["hits"].update({"take-1": {"spoon": [[1.0, 2.0, 0.5]]}}),
            lambda c: c["hits"].update({"take-9": {}}),
            lambda c: c["moves"][0].update(before={"mics.nobody.trim_db": 0.0}),
            lambda c: c["moves"][0].update(before={"mics.sn-top.trim_db": "loud"}),
            lambda c: c["moves"][0].update(number=7),
            lambda c: c["moves"][0].update(made_on=10**6),
            lambda c: c["moves"][0].update(state="maybe"),
            lambda c: c["plan"]["mics"][0].update(id="a.b"),
            lambda c: c["plan"]["mics"].pop(),
            lambda c: c["plan"].update(take="take-9"),
            lambda c: c["plan"]["joins"].append({"at": 5, "take": "take-9", "from_at": 5}),
            lambda c: c["takes"][0].update(mics=[]),
            lambda c: c["takes"][0]["mics"].append(c["takes"][0]["mics"][0]),
            lambda c: c["takes"][0]["mics"][0].update(digest="../../etc"),
            lambda c: c.update(more=1),
            lambda c: c.update(warnings=["x"] * 3000),
            lambda c: c.update(arkund_archive=99),
        ],
    )
    def test_contents_that_describe_no_session(self, packed, change):
        """Each value is checked before anything is written."""
        self.refused(rewritten(packed, lambda e: with_contents(e, change)), "does not describe|of a kind")

    def test_a_hash_that_others_have(self, session, tmp_path):
        """Who names the hash of a recording that lies here, and sends another sound under it, does not hear it; what lies here stays as it is."""
        mine = MicRecording.objects.filter(take__session=session).first().digest
        before = store.audio_path(mine).read_bytes()
        path = archiving.archive(session, tmp_path / "theirs.zip")
        noise = np.random.default_rng(9).normal(0, 0.1, 48_000)
        soundfile.write(tmp_path / "noise.flac", noise, session.sample_rate_hz, subtype="PCM_24")
        crafted = rewritten(path, lambda e: e.update({f"audio/{mine}.flac": (tmp_path / "noise.flac").read_bytes()}))
        with pytest.raises(AudioError, match="does not hold the samples"):
            archiving.restore(crafted)
        assert Session.objects.count() == 1
        assert store.audio_path(mine).read_bytes() == before

    def test_a_length_that_is_claimed(self, session, tmp_path):
        """Lengths are those of the audio: a claim neither makes ten silent hours nor lets the doctor take a healthy recording for damaged."""
        before = {path: path.read_bytes() for path in store.audio_folder().glob("*.npy")}

        def claim(contents):
            contents["takes"][0]["length"] = 10**9
            contents["takes"][0]["mics"][0]["length"] = 10**9

        path = archiving.archive(session, tmp_path / "long.zip")
        back = archiving.restore(rewritten(path, lambda e: with_contents(e, claim)))
        assert back.takes.get().length == session.takes.get().length
        assert examine(repair=True) == []
        MicRecording.objects.filter(take__session=back).update(length=10**9)  # as an archive could once do
        assert all("not as long as its row says" in c.what and c.repaired for c in examine(repair=True))
        assert {path: path.read_bytes() for path in before} == before
        assert examine(repair=False) == []

    def test_a_card_lies_beside_it(self, packed):
        """What came back can be rebuilt like any other session."""
        assert cards.path_of(archiving.restore(packed).uid).exists()

    def test_no_archive(self, tmp_path):
        """Any other file."""
        (tmp_path / "notes.zip").write_text("hello")
        self.refused(tmp_path / "notes.zip", "not a whole Arkund archive")
        with pytest.raises(AudioError, match="cannot be restored"):
            archiving.restore(tmp_path / "nothing.zip")
