"""Files written once from start to end."""

import hashlib

import numpy as np
import pytest
import soundfile
from blake3 import blake3

from arkund.core.dsp.bank import bank_of, empty_bank
from arkund.core.files import writing
from arkund.core.files.writing import BITS, ENDINGS, Writer, wav_header

RATE = 48_000


def written(tmp_path, format_name: str, channels: list[np.ndarray], pieces: int = 3, name: str = "drum"):
    """Write channels as lanes 1.. of a bank, in pieces; return the path and the checksum."""
    bank = bank_of([np.zeros_like(channels[0]), *channels])
    path = tmp_path / (name + ENDINGS[format_name])
    writer = Writer(path, format_name, RATE, len(channels), bank.shape[0])
    for part in np.array_split(bank, pieces):
        writer.write(np.ascontiguousarray(part), 1)
    return path, writer.close()


class TestWriter:
    """What is read back is what was written."""

    @pytest.mark.parametrize("format_name", list(BITS))
    @pytest.mark.parametrize("count", [1, 2])
    def test_samples_and_checksum(self, tmp_path, format_name, count):
        """Float exactly, 24 bit within one and a half steps; the checksum is that of the file."""
        rng = np.random.default_rng(2)
        channels = [(rng.uniform(-0.9, 0.9, 5001)).astype(np.float32) for _ in range(count)]
        path, digest = written(tmp_path, format_name, channels)
        read, rate = soundfile.read(path, dtype="float64", always_2d=True)
        assert (rate, read.shape) == (RATE, (5001, count))
        away = np.abs(read - np.stack(channels, axis=1)).max()
        assert away == 0 if format_name == "wav32f" else away <= 1.5 * 2.0**-23 + 1e-12
        assert blake3(path.read_bytes()).hexdigest() == digest

    def test_pieces_do_not_show(self, tmp_path):
        """The same samples in other pieces give the same bytes; another name gives other dither."""
        x = [np.random.default_rng(3).uniform(-0.5, 0.5, 3000).astype(np.float32)]
        a, b = (written(tmp_path, "wav24", x, pieces)[1] for pieces in (1, 7))
        assert a == b
        assert written(tmp_path, "wav24", x, name="other")[1] != a

    def test_dither(self, tmp_path):
        """A signal of a quarter of a step survives as the mean, and the noise is triangular: its power is a quarter of a step squared."""
        path, _ = written(tmp_path, "wav24", [np.full(200_000, 0.25 * 2.0**-23, np.float32)])
        steps = soundfile.read(path, dtype="float64")[0] * 2.0**23
        assert steps.mean() == pytest.approx(0.25, abs=0.01)
        assert steps.var() == pytest.approx(0.25, abs=0.01)
        assert np.abs(steps).max() <= 2

    @pytest.mark.parametrize("count", [1, 2])
    def test_dither_by_hand(self, tmp_path, count):
        """Sample by sample in plain integers: the hash of each value's place and the file's seed, and the step below level plus noise plus a half."""
        rng = np.random.default_rng(12)
        x = [rng.uniform(-0.9, 0.9, 403).astype(np.float32) for _ in range(count)]
        path, _ = written(tmp_path, "wav24", x)
        seed = int.from_bytes(hashlib.sha256(path.name.encode()).digest()[:4])
        wanted = []
        for place, value in enumerate(np.stack(x, axis=1).reshape(-1)):
            z = (seed + place) % 2**32
            z = (z ^ z >> 16) * 0x7FEB352D % 2**32
            z = (z ^ z >> 15) * 0x846CA68B % 2**32
            z ^= z >> 16
            noise = np.float32(((z >> 16) - (z & 0xFFFF)) / 65536)
            wanted.append(int(np.floor(value * np.float32(2**23) + noise + np.float32(0.5))))
        steps = soundfile.read(path, dtype="int32")[0].reshape(-1) >> 8
        assert steps.tolist() == wanted

    @pytest.mark.parametrize(("channels", "files"), [(1, 3), (1, 14), (2, 1), (2, 5)])
    @pytest.mark.parametrize("samples", [1000, 1001, 1003])
    def test_side_by_side(self, tmp_path, channels, files, samples):
        """Files of one bank get what each gets by itself."""
        rng = np.random.default_rng(samples)
        lanes = [rng.uniform(-0.9, 0.9, samples).astype(np.float32) for _ in range(channels * files)]
        writers = [Writer(tmp_path / f"{k}.wav", "wav24", RATE, channels, samples) for k in range(files)]
        together = writing.dithered(bank_of(lanes), writers, 77)
        for k, (writer, found) in enumerate(zip(writers, together, strict=True)):
            alone = writing.dithered(bank_of(lanes[k * channels :][:channels]), [writer], 77)[0]
            assert found.size == 3 * channels * samples
            assert np.array_equal(found, alone)

    def test_full_scale(self, tmp_path):
        """Beyond full scale is held at full scale, not turned over."""
        path, _ = written(tmp_path, "wav24", [np.array([1.5, -1.5, 1.0, -1.0] * 100, np.float32)])
        read = soundfile.read(path)[0]
        assert np.all(np.sign(read) == np.tile([1, -1, 1, -1], 100))
        assert np.abs(read).min() > 0.999999


class TestWavHeader:
    """Short and long files."""

    @pytest.mark.parametrize("format_name", ["wav24", "wav32f"])
    def test_rf64(self, tmp_path, monkeypatch, format_name):
        """A file beyond RIFF's length is RF64, and is read alike."""
        monkeypatch.setattr(writing, "MOST_RIFF_BYTES", 1000)
        x = [np.random.default_rng(4).uniform(-0.5, 0.5, 2001).astype(np.float32)]
        path, _ = written(tmp_path, format_name, x)
        assert path.read_bytes()[:4] == b"RF64"
        assert soundfile.info(path).frames == 2001
        assert np.abs(soundfile.read(path)[0] - x[0]).max() < 2e-7

    def test_beyond_4_gb(self):
        """The long sizes stand in the ds64 chunk."""
        header = wav_header(96_000, 2, 1 << 31, 24)
        assert header[:4] == b"RF64"
        assert int.from_bytes(header[28:36], "little") == (1 << 31) * 6

    def test_nothing_is_left_open(self, tmp_path):
        """A file can be abandoned at any moment."""
        writer = Writer(tmp_path / "x.wav", "wav24", RATE, 1, 100)
        writer.write(empty_bank(10, 1), 0)
        writer.abandon()
        (tmp_path / "x.wav").unlink()
