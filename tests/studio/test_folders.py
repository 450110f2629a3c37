"""What stands beside the samples: takes by folder or name, time stamps, names and cues in files, a MIDI file with the tempo map."""

import struct
from pathlib import Path

import numpy as np
import pytest
import soundfile

from arkund.core.files.stamps import Stamps, stamps
from arkund.core.plan.plan import Section, Tempo
from arkund.core.timing import midi
from arkund.studio.services import store
from arkund.studio.services.folders import takes_by_name
from arkund.studio.services.importing import import_folder

RATE = 48_000


def chunk(name: bytes, data: bytes) -> bytes:
    return name + struct.pack("<I", len(data)) + data + b"\0" * (len(data) % 2)


def stamped(path: Path, samples: np.ndarray, *, begin: int = 0, description: str = "", cues=()) -> None:
    """Write a WAV with the broadcast chunk of EBU Tech 3285 and RIFF cue markers."""
    soundfile.write(path, samples, RATE, subtype="PCM_24")
    data = path.read_bytes()
    bext = (
        description.encode().ljust(256, b"\0")
        + bytes(32 + 32 + 10 + 8)
        + struct.pack("<Q", begin)
        + struct.pack("<H", 1)
        + bytes(254)
    )
    more = chunk(b"bext", bext)
    if cues:
        rows = b"".join(struct.pack("<II4sIII", k, at, b"data", 0, 0, at) for k, (at, _) in enumerate(cues, 1))
        more += chunk(b"cue ", struct.pack("<I", len(cues)) + rows)
        labels = b"".join(
            chunk(b"labl", struct.pack("<I", k) + label.encode() + b"\0") for k, (_, label) in enumerate(cues, 1)
        )
        more += chunk(b"LIST", b"adtl" + labels)
    whole = data + more
    path.write_bytes(whole[:4] + struct.pack("<I", len(whole) - 8) + whole[8:])


def noise(seed: int, seconds: float = 1.0) -> np.ndarray:
    return np.random.default_rng(seed).normal(0, 0.05, int(seconds * RATE))


class TestStamps:
    """Read from the file itself."""

    def test_begin_name_and_cues(self, tmp_path):
        """As they were written."""
        stamped(
            tmp_path / "a.wav",
            noise(1),
            begin=172_800_000,
            description="SN top",
            cues=[(4800, "verse"), (24_000, "chorus")],
        )
        assert stamps(tmp_path / "a.wav") == Stamps(172_800_000, "SN top", ((4800, "verse"), (24_000, "chorus")))

    def test_plain_and_damaged_files(self, tmp_path):
        """Say nothing, and never fail."""
        soundfile.write(tmp_path / "plain.wav", noise(2), RATE)
        assert stamps(tmp_path / "plain.wav") == Stamps()
        (tmp_path / "no.wav").write_bytes(b"RIFF\x10\0\0\0WAVEjunk")
        assert stamps(tmp_path / "no.wav") == Stamps()
        stamped(tmp_path / "cut.wav", noise(3), begin=5, cues=[(1, "x")])
        data = bytearray((tmp_path / "cut.wav").read_bytes())
        rng = np.random.default_rng(4)
        for _ in range(100):
            data[int(rng.integers(len(data) - 700, len(data)))] = int(rng.integers(256))
            (tmp_path / "cut.wav").write_bytes(data)
            assert isinstance(stamps(tmp_path / "cut.wav"), Stamps)


@pytest.mark.django_db
class TestImport:
    """What the import makes of it."""

    def test_a_file_that_began_later(self, tmp_path):
        """Is placed by its time stamp, to the sample, and said."""
        early, late = noise(11, 2.0), noise(12)
        stamped(tmp_path / "kick.wav", early, begin=1_000_000)
        stamped(tmp_path / "snare.wav", late, begin=1_012_345)
        session = import_folder(tmp_path)
        row = session.takes.get().mics.get(mic="snare")
        found = np.load(store.audio_path(row.digest))
        assert not found[:12_345].any()
        assert found[12_345:] == pytest.approx(late, abs=1e-6)
        assert any("began 0.257 s after" in w for w in session.warnings)

    def test_stamps_that_not_all_have(self, tmp_path):
        """Move nothing."""
        stamped(tmp_path / "kick.wav", noise(11), begin=1_000_000)
        soundfile.write(tmp_path / "snare.wav", noise(12), RATE)
        assert import_folder(tmp_path).takes.get().length == RATE

    def test_the_recorders_name(self, tmp_path):
        """Says more than a file called by a number."""
        stamped(tmp_path / "0001.wav", noise(1), description="Hi-Hat")
        (mic,) = import_folder(tmp_path).plan.mics
        assert (mic.name, mic.piece) == ("Hi-Hat", "hihat")

    def test_takes_by_name(self, tmp_path):
        """Files in one folder that end in their take's number."""
        for number in (1, 2):
            for name in ("Kick", "SN top"):
                soundfile.write(tmp_path / f"{name}_take{number:02d}.wav", noise(number), RATE)
        session = import_folder(tmp_path)
        assert [take.name for take in session.takes.all()] == ["Take 1", "Take 2"]
        assert [mic.name for mic in session.plan.mics] == ["Kick", "SN top"]

    def test_other_numbers_are_no_takes(self):
        """Toms have numbers too."""
        paths = [Path(f"{name}.wav") for name in ("T1", "T2", "Kick take 1")]
        assert takes_by_name({"": paths}) == {"": paths}

    def test_a_midi_file_beside(self, tmp_path):
        """Brings tempo map and sections; a tempo that was typed goes before it."""
        soundfile.write(tmp_path / "kick.wav", noise(1, 3.0), RATE)
        midi.write(
            tmp_path / "song.mid",
            {},
            Tempo(bpm=96.5, first_bar_s=1.25),
            (Section(name="verse", bar=0), Section(name="end", bar=3)),
            12.0,
        )
        plan = import_folder(tmp_path).plan
        assert plan.tempo.bpm == pytest.approx(96.5, abs=1e-3)
        assert plan.tempo.first_bar_s == pytest.approx(1.25, abs=1e-3)
        assert [s.name for s in plan.sections] == ["verse", "end"]
        assert import_folder(tmp_path, bpm=101.0).plan.tempo.bpm == 101.0

    def test_a_broken_midi_file_beside(self, tmp_path):
        """Is said, and the recordings come in."""
        soundfile.write(tmp_path / "kick.wav", noise(1), RATE)
        (tmp_path / "song.mid").write_bytes(b"MThd\0\0\0\6\0\1\0\1\1\xe0MTrk")
        assert any("song.mid" in w for w in import_folder(tmp_path).warnings)

    def test_cue_markers_name_sections(self, tmp_path):
        """At the bars they lie in."""
        stamped(tmp_path / "kick.wav", noise(1, 9.0), cues=[(0, "intro"), (4 * RATE, "verse")])
        assert import_folder(tmp_path, bpm=120.0).plan.sections == (
            Section(name="intro", bar=0),
            Section(name="verse", bar=2),
        )
