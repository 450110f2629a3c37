"""Reading recordings: every usual format exactly, every bad file named, nothing half-made left."""

from itertools import pairwise
from types import SimpleNamespace

import numpy as np
import pytest
import soundfile

from arkund.core.errors import AudioError, StorageError
from arkund.core.files import audio, room
from arkund.core.files.peaks import LEVELS, Columns, pyramid


def noise(seconds=0.5, rate=48_000, channels=1, seed=1):
    shape = int(seconds * rate) if channels == 1 else (int(seconds * rate), channels)
    return (np.random.default_rng(seed).uniform(-0.5, 0.5, shape)).astype(np.float32)


def left_over(folder):
    return [p.name for p in folder.iterdir()] if folder.exists() else []


class TestIngest:
    """Samples arrive as they were written."""

    @pytest.mark.parametrize(
        ("ending", "kind", "subtype", "step"),
        [
            ("wav", "WAV", "PCM_16", 2.0**-15),
            ("wav", "WAV", "PCM_24", 2.0**-23),
            ("wav", "WAV", "PCM_32", 2.0**-24),
            ("wav", "WAV", "FLOAT", 0.0),
            ("rf64", "RF64", "PCM_24", 2.0**-23),
            ("aiff", "AIFF", "PCM_24", 2.0**-23),
            ("flac", "FLAC", "PCM_24", 2.0**-23),
            ("flac", "FLAC", "PCM_16", 2.0**-15),
        ],
    )
    def test_formats(self, tmp_path, ending, kind, subtype, step):
        """Each format comes back within half a step of its resolution."""
        samples = noise()
        path = tmp_path / f"a.{ending}"
        soundfile.write(path, samples, 48_000, subtype=subtype, format=kind)
        (channel,) = audio.ingest(path, tmp_path / "store", 48_000)
        got = np.load(channel.path)
        assert got.dtype == np.float32
        assert channel.length == samples.size
        assert np.max(np.abs(got - samples)) <= step + 1e-9

    @pytest.mark.parametrize("rate", [44_100, 88_200, 96_000, 192_000])
    def test_other_rates_are_converted(self, tmp_path, rate):
        """A sine keeps its frequency and level at the session's rate."""
        t = np.arange(rate) / rate
        soundfile.write(tmp_path / "s.wav", 0.5 * np.sin(2 * np.pi * 1000 * t), rate, subtype="FLOAT")
        (channel,) = audio.ingest(tmp_path / "s.wav", tmp_path / "store", 48_000)
        got = np.load(channel.path)
        assert abs(got.size - 48_000) <= 2
        wanted = 0.5 * np.sin(2 * np.pi * 1000 * np.arange(got.size) / 48_000)
        assert np.max(np.abs(got - wanted)[500:-500]) < 1e-4

    def test_stereo_is_split(self, tmp_path):
        """Left and right become a channel each."""
        samples = noise(channels=2)
        soundfile.write(tmp_path / "oh.wav", samples, 48_000, subtype="FLOAT")
        channels = audio.ingest(tmp_path / "oh.wav", tmp_path / "store", 48_000)
        for lane, channel in enumerate(channels):
            assert np.array_equal(np.load(channel.path), samples[:, lane])

    def test_equal_content_is_stored_once(self, tmp_path):
        """Files are named by the hash of their samples."""
        soundfile.write(tmp_path / "a.wav", noise(), 48_000, subtype="FLOAT")
        soundfile.write(tmp_path / "b.wav", noise(), 48_000, subtype="FLOAT")
        a, b = (audio.ingest(tmp_path / n, tmp_path / "store", 48_000)[0] for n in ("a.wav", "b.wav"))
        assert a.digest == b.digest
        assert len(left_over(tmp_path / "store")) == 1

    def test_blocks_do_not_show(self, tmp_path, monkeypatch):
        """The size of the blocks changes nothing."""
        soundfile.write(tmp_path / "a.wav", noise(2.0), 48_000, subtype="FLOAT")
        whole = audio.ingest(tmp_path / "a.wav", tmp_path / "one", 48_000)[0]
        monkeypatch.setattr(audio, "BLOCK", 1000)
        parts = audio.ingest(tmp_path / "a.wav", tmp_path / "two", 48_000)[0]
        assert whole.digest == parts.digest

    def test_progress_and_cancel(self, tmp_path, monkeypatch):
        """Progress rises to 1; an exception from it leaves nothing behind."""
        monkeypatch.setattr(audio, "BLOCK", 4000)
        soundfile.write(tmp_path / "a.wav", noise(), 48_000)
        seen = []
        audio.ingest(tmp_path / "a.wav", tmp_path / "store", 48_000, seen.append)
        assert seen == sorted(seen)
        assert seen[-1] == 1.0

        def stop(share):
            raise KeyboardInterrupt

        with pytest.raises(KeyboardInterrupt):
            audio.ingest(tmp_path / "a.wav", tmp_path / "other", 48_000, stop)
        assert left_over(tmp_path / "other") == []


class TestRoom:
    """What a small file may become."""

    def test_silence_takes_no_room(self, tmp_path):
        """It is a hole in the file; its samples, and those around it, are what they were."""
        sound = np.zeros(20 * 48_000, np.float32)
        sound[:1000] = sound[-1000:] = 0.5
        soundfile.write(tmp_path / "a.flac", sound, 48_000, subtype="PCM_24")
        made = audio.ingest(tmp_path / "a.flac", tmp_path / "out", 48_000)[0]
        assert np.array_equal(np.load(made.path), sound)
        assert made.path.stat().st_size > 4 * sound.size
        assert 512 * made.path.stat().st_blocks < 3_000_000
        assert audio.digest_of(made.path) == (made.digest, sound.size)
        soundfile.write(tmp_path / "b.flac", np.zeros(48_000), 48_000, subtype="PCM_24")
        silent = audio.ingest(tmp_path / "b.flac", tmp_path / "out", 48_000)[0]
        assert np.array_equal(np.load(silent.path), np.zeros(48_000, np.float32))

    def test_longer_than_any_song(self, tmp_path):
        """A header that promises more than four hours is refused before anything is read."""
        path = tmp_path / "long.wav"
        soundfile.write(path, np.zeros(4800), 48_000, subtype="PCM_16")
        data = bytearray(path.read_bytes())
        more = 2 * 48_000 * 5 * 3600
        data[4:8], data[40:44] = (more + 36).to_bytes(4, "little"), more.to_bytes(4, "little")
        path.write_bytes(data)
        with path.open("r+b") as file:
            file.truncate(44 + more)
        with pytest.raises(AudioError, match=r"5\.0 hours long; a recording has at most 4 hours"):
            audio.probe(path)

    def test_a_disk_that_fills_up_meanwhile(self, tmp_path, monkeypatch):
        """Said in a sentence, and nothing stays."""
        monkeypatch.setattr(audio, "ROOM_EVERY_BYTES", 1 << 20)
        monkeypatch.setattr(room.shutil, "disk_usage", lambda _: SimpleNamespace(free=room.KEPT_FREE_BYTES))
        sound = np.random.default_rng(3).normal(0, 0.1, 20 * 48_000)
        soundfile.write(tmp_path / "a.wav", sound, 48_000, subtype="PCM_24")
        with pytest.raises(StorageError, match="too little room"):
            audio.ingest(tmp_path / "a.wav", tmp_path / "out", 48_000)
        assert list((tmp_path / "out").iterdir()) == []

    def test_what_is_needed(self):
        """Four bytes a sample at the session's rate."""
        assert room.bytes_of(44_100, 2, 44_100, 48_000) == 48_000 * 2 * 4


class TestBadFiles:
    """The message names the file and what to do."""

    def test_text_named_wav(self, tmp_path):
        """A text is no recording."""
        (tmp_path / "lyrics.wav").write_text("la la la")
        with pytest.raises(AudioError, match=r"lyrics\.wav: not a readable"):
            audio.probe(tmp_path / "lyrics.wav")

    def test_empty_file(self, tmp_path):
        """Zero bytes are named as such."""
        (tmp_path / "e.wav").write_bytes(b"")
        with pytest.raises(AudioError, match="empty"):
            audio.probe(tmp_path / "e.wav")

    @pytest.mark.parametrize("frames", [0, 1, 100])
    def test_too_short(self, tmp_path, frames):
        """One sample is no recording."""
        soundfile.write(tmp_path / "s.wav", np.zeros(frames), 48_000)
        with pytest.raises(AudioError, match="samples long"):
            audio.probe(tmp_path / "s.wav")

    def test_eight_channels(self, tmp_path):
        """One file per mic is asked for."""
        soundfile.write(tmp_path / "m.wav", np.zeros((4800, 8)), 48_000)
        with pytest.raises(AudioError, match="8 channels"):
            audio.probe(tmp_path / "m.wav")

    def test_unusual_rate(self, tmp_path):
        """8 kHz is no music recording."""
        soundfile.write(tmp_path / "r.wav", np.zeros(8000), 8000)
        with pytest.raises(AudioError, match="8000 Hz"):
            audio.probe(tmp_path / "r.wav")

    @pytest.mark.parametrize(("kind", "ending"), [("FLAC", "flac"), ("WAV", "wav")])
    def test_truncated(self, tmp_path, kind, ending):
        """A file that was cut off is refused or read to where its header is true; nothing is left over."""
        path = tmp_path / f"t.{ending}"
        soundfile.write(path, noise(2.0), 48_000, subtype="PCM_24", format=kind)
        path.write_bytes(path.read_bytes()[: path.stat().st_size // 3])
        try:
            (channel,) = audio.ingest(path, tmp_path / "store", 48_000)
        except AudioError as error:
            assert path.name in str(error)
            assert left_over(tmp_path / "store") == []
        else:
            assert channel.length < 96_000

    @pytest.mark.parametrize("peak", [3e38, 1e20, -1e6])
    def test_no_audio_at_all(self, tmp_path, peak):
        """Samples far beyond anything that was recorded are refused, with what they reach."""
        x = np.zeros(48_000, np.float32)
        x[700] = peak
        soundfile.write(tmp_path / "big.wav", x, 48_000, subtype="FLOAT")
        with pytest.raises(AudioError, match=r"big\.wav: samples reach .*that is no audio"):
            audio.ingest(tmp_path / "big.wav", tmp_path / "audio", 48_000)

    def test_not_a_number(self, tmp_path):
        """NaN and infinity become silence, are counted and said."""
        samples = noise()
        samples[100], samples[200] = np.nan, np.inf
        soundfile.write(tmp_path / "n.wav", samples, 48_000, subtype="FLOAT")
        (channel,) = audio.ingest(tmp_path / "n.wav", tmp_path / "store", 48_000)
        got = np.load(channel.path)
        assert np.all(np.isfinite(got))
        assert (got[100], got[200]) == (0, 0)
        assert channel.not_finite == 2
        assert "2 samples are not numbers" in " ".join(audio.notices(channel, "n.wav"))

    def test_notices(self, tmp_path):
        """Silence, DC and clipping are named."""
        cases = {
            "silent": (np.zeros(9600, np.float32), "silent"),
            "dc": (noise() * 0.1 + 0.05, "DC"),
            "hot": (np.clip(noise() * 4, -1, 1), "full scale"),
        }
        for name, (samples, word) in cases.items():
            soundfile.write(tmp_path / f"{name}.wav", samples, 48_000, subtype="FLOAT")
            (channel,) = audio.ingest(tmp_path / f"{name}.wav", tmp_path / "store", 48_000)
            assert word in " ".join(audio.notices(channel, name))


class TestMicFile:
    """A mic can be read at any place."""

    def test_outside_is_silent(self, tmp_path):
        """Before the start and after the end there is silence."""
        soundfile.write(tmp_path / "a.wav", noise(), 48_000, subtype="FLOAT")
        (channel,) = audio.ingest(tmp_path / "a.wav", tmp_path / "store", 48_000)
        mic = audio.MicFile(channel.path)
        part = mic.read(-100, 100)
        assert np.all(part[:100] == 0)
        assert np.array_equal(part[100:], np.load(channel.path)[:100])
        assert np.all(mic.read(mic.length, mic.length + 50) == 0)
        assert np.all(mic.read(-50, -10) == 0)
        assert mic.read(10, 10).size == 0

    def test_a_file_cut_short(self, tmp_path):
        """A recording that lost its end since is an error, not silence; one that is none of ours is said to be so."""
        soundfile.write(tmp_path / "a.wav", noise(), 48_000, subtype="FLOAT")
        (channel,) = audio.ingest(tmp_path / "a.wav", tmp_path / "store", 48_000)
        with channel.path.open("r+b") as file:
            file.truncate(1000)
        with pytest.raises(AudioError, match="shorter than it says"):
            audio.MicFile(channel.path).read(0, 4000)
        np.save(tmp_path / "b.npy", np.zeros((3, 3)))
        with pytest.raises(AudioError, match="not one of our recordings"):
            audio.MicFile(tmp_path / "b.npy")


class TestPyramid:
    """Each column holds the true minimum and maximum."""

    def test_against_numpy(self):
        """Every zoom covers every sample, rounded away from zero."""
        samples = noise(1.0, seed=7)
        for level, columns in pyramid(audio.ArrayMic(samples)).items():
            assert level in LEVELS
            for i in range(0, columns.shape[0] - 1, 7):
                part = samples[i * level : (i + 1) * level]
                assert columns[i, 0] == max(np.floor(part.min() * 127), -127)
                assert columns[i, 1] == min(np.ceil(part.max() * 127), 127)

    @pytest.mark.parametrize(("width", "count"), [(4, 2), (8, 7), (16, 16)])
    def test_banks_in_pieces(self, width, count):
        """Channels side by side that arrive in pieces of any size are drawn as each by itself; what lies beside them is not."""
        bank = np.random.default_rng(width).uniform(-1.2, 1.2, (10_003, width)).astype(np.float32)
        columns = Columns(count)
        for first, last in pairwise((0, 10, 300, 7000, 10_003)):
            columns.add(np.ascontiguousarray(bank[first:last]))
        found = columns.levels()
        assert len(found) == count
        for channel, levels in enumerate(found):
            for level in LEVELS:
                rows = np.pad(bank[:, channel], (0, -bank.shape[0] % level)).reshape(-1, level)
                wanted = np.stack([np.floor(rows.min(axis=1) * 127), np.ceil(rows.max(axis=1) * 127)], axis=1)
                assert np.array_equal(levels[level], np.clip(wanted, -127, 127))
