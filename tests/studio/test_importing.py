"""Import: takes, names, warnings; nothing half-made."""

import os
import shutil

import numpy as np
import pytest
import soundfile

from arkund.core.errors import ArkundError, AudioError, CancelledError, SettingsError
from arkund.studio.models import MicRecording, Session
from arkund.studio.services import archiving
from arkund.studio.services.importing import import_folder
from arkund.studio.services.recordings import recordings_of

pytestmark = pytest.mark.django_db


def write(path, seconds=0.3, rate=48_000, channels=1, seed=1):
    path.parent.mkdir(parents=True, exist_ok=True)
    shape = int(seconds * rate) if channels == 1 else (int(seconds * rate), channels)
    samples = np.random.default_rng(seed).uniform(-0.4, 0.4, shape)
    soundfile.write(path, samples, rate, subtype="PCM_24")
    return path


class TestImportFolder:
    """From files to a session."""

    def test_little_kit(self, session, little):
        """Mics are named, sorted as engineers list them, and read back exactly."""
        assert [m.piece for m in session.plan.mics][:4] == ["kick", "kick", "snare", "snare"]
        got = recordings_of(session).mic("take-1", "sn-top").read(0, 5000)
        assert np.max(np.abs(got - little.audio["SN top"][:5000])) < 2**-22

    def test_sub_folders_are_takes(self, tmp_path):
        """Same mics in each take share an id; numbers sort naturally."""
        for take in ("take 1", "take 2", "take 10"):
            for name in ("Kick.wav", "SN top.wav"):
                write(tmp_path / "song" / take / name)
        session = import_folder(tmp_path / "song")
        assert [t.name for t in session.takes.all()] == ["take 1", "take 2", "take 10"]
        assert [m.id for m in session.plan.mics] == ["kick", "sn-top"]

    def test_stereo_files_are_split(self, tmp_path):
        """Left and right become mics with their side."""
        write(tmp_path / "s" / "OH.wav", channels=2)
        session = import_folder(tmp_path / "s")
        assert {mic.id: mic.side for mic in session.plan.mics if mic.side} == {"oh-l": "L", "oh-r": "R"}

    def test_mixed_rates_and_lengths(self, tmp_path):
        """The common rate wins; what differs is named."""
        write(tmp_path / "s" / "Kick.wav", rate=48_000)
        write(tmp_path / "s" / "Snare.wav", rate=48_000, seconds=0.9)
        write(tmp_path / "s" / "HH.wav", rate=44_100, seconds=0.9)
        session = import_folder(tmp_path / "s")
        assert session.sample_rate_hz == 48_000
        words = " ".join(session.warnings)
        assert "HH.wav: 44100 Hz, converted" in words
        assert "Kick.wav: 0.6 s shorter" in words

    def test_odd_names(self, tmp_path):
        """Spaces, umlauts, emoji and equal names all find a place."""
        names = ("Große Trommel.wav", "🥁.wav", " spaced  name .wav", "Kick.wav", "Kick.flac", "a" * 120 + ".wav")
        for number, name in enumerate(names):
            write(tmp_path / "s" / name, seed=number)
        session = import_folder(tmp_path / "s")
        ids = [m.id for m in session.plan.mics]
        assert len(set(ids)) == len(names)
        assert "another file has the same name" in " ".join(session.warnings)

    def test_names_that_are_no_text(self, folder, tmp_path):
        """Bytes that are not UTF-8, controls and marks of direction go; what is left names session, take and file."""
        to = tmp_path / "So\u202eng\x07"
        shutil.copytree(folder, to)
        (to / "Ride.wav").write_bytes(b"")
        odd = os.fsencode(to) + b"/Sn\xe4re low.wav"
        shutil.copy(to / "SN top.wav", odd)
        session = import_folder(to, bpm=120.0)
        files = set(MicRecording.objects.filter(take__session=session).values_list("file", flat=True))
        assert session.name == "Song"
        assert "Sn_re low.wav" in files
        assert archiving.restore(archiving.archive(session, tmp_path / "a.zip")).name == "Song"

    @pytest.mark.long
    def test_three_hundred_files(self, tmp_path):
        """A large session is no special case."""
        for number in range(300):
            write(tmp_path / "s" / f"T{number:03d}.wav", seconds=0.06, seed=number)
        assert import_folder(tmp_path / "s").takes.get().mics.count() == 300

    def test_bad_files_among_good_ones(self, tmp_path):
        """The good ones are imported, the bad ones named."""
        write(tmp_path / "s" / "Kick.wav")
        (tmp_path / "s" / "Snare.wav").write_text("not audio")
        (tmp_path / "s" / "HH.wav").write_bytes(b"")
        session = import_folder(tmp_path / "s")
        assert [m.id for m in session.plan.mics] == ["kick"]
        assert "Snare.wav" in " ".join(session.warnings)
        assert "HH.wav" in " ".join(session.warnings)

    def test_links_out_of_the_folder_are_not_followed(self, tmp_path):
        """A link cannot pull in files from elsewhere."""
        write(tmp_path / "elsewhere" / "secret.wav")
        write(tmp_path / "s" / "Kick.wav")
        (tmp_path / "s" / "Snare.wav").symlink_to(tmp_path / "elsewhere" / "secret.wav")
        assert [m.id for m in import_folder(tmp_path / "s").plan.mics] == ["kick"]


class TestNothingHalfMade:
    """Refused and cancelled imports leave no session."""

    def test_nothing_usable(self, tmp_path):
        """The reasons are in the message."""
        (tmp_path / "s").mkdir()
        (tmp_path / "s" / "Snare.wav").write_text("not audio")
        with pytest.raises(AudioError, match=r"No usable recording: Snare\.wav"):
            import_folder(tmp_path / "s")
        assert not Session.objects.exists()

    def test_empty_or_missing_folder(self, tmp_path):
        """Both say what is wanted."""
        with pytest.raises(AudioError, match="holds no WAV"):
            import_folder(tmp_path)
        with pytest.raises(AudioError, match="is not a folder"):
            import_folder(tmp_path / "nowhere")

    @pytest.mark.parametrize("meter", ["4", "four", "4/4/4", "100/4", ""])
    def test_bad_meter(self, tmp_path, meter):
        """The meter is checked before any file is read."""
        with pytest.raises(SettingsError, match="meter"):
            import_folder(tmp_path, meter=meter)

    def test_cancel(self, tmp_path):
        """Cancelled in the middle: no rows."""
        for name in ("Kick.wav", "Snare.wav"):
            write(tmp_path / "s" / name)
        asked = iter([False, True, True, True])
        with pytest.raises(CancelledError):
            import_folder(tmp_path / "s", cancelled=lambda: next(asked))
        assert not Session.objects.exists()
        assert not MicRecording.objects.exists()

    def test_full_disk(self, folder, monkeypatch):
        """Writing that fails leaves no session behind."""
        from arkund.core.files import audio

        def full(self, samples, not_finite):
            raise OSError(28, "No space left on device")

        monkeypatch.setattr(audio._Writer, "add", full)
        with pytest.raises((OSError, ArkundError)):
            import_folder(folder)
        assert not Session.objects.exists()

    def test_source_may_go(self, session, folder, tmp_path):
        """The session does not need the files it was made from."""
        copy = tmp_path / "copy"
        shutil.copytree(folder, copy)
        again = import_folder(copy)
        shutil.rmtree(copy)
        assert recordings_of(again).mic("take-1", "kd-in").read(0, 10).size == 10
