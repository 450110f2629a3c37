"""MIDI out and in: times, tempo maps, markers, and what is damaged."""

import io
import struct

import mido
import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.hits.resolve import Hit
from arkund.core.plan.plan import Section, Tempo, TempoChange
from arkund.core.timing import midi
from arkund.core.timing.bars import bars_of

TEMPO = Tempo(
    bpm=117.3,
    first_bar_s=2.345,
    changes=(TempoChange(bar=4, bpm=90.0, beats_per_bar=3), TempoChange(bar=8, bpm=60.0, beats_per_bar=6, beat_unit=8)),
)
SECTIONS = (Section(name="verse", bar=2), Section(name="chorus", bar=9))


def file_of(*messages, ticks=480, track=None):
    """Return the bytes of a file with one track of (delta, message)."""
    song = mido.MidiFile(type=0, ticks_per_beat=ticks)
    song.tracks.append(mido.MidiTrack([m.copy(time=at) for at, m in messages]))
    out = io.BytesIO()
    song.save(file=out)
    return out.getvalue()


def meta(kind, **values):
    return mido.MetaMessage(kind, **values)


class TestRoundTrip:
    """What is written is read back."""

    def test_hits_tempo_and_sections(self, tmp_path):
        """Times within 0.06 ms, velocities and pieces as they were, bar lines within 0.05 ms over the song."""
        rng = np.random.default_rng(17)
        hits = {
            piece: [
                Hit(piece, float(t), -8.0, int(rng.integers(1, 128)), False) for t in np.sort(rng.uniform(0, 70, 50))
            ]
            for piece in midi.NOTES
        }
        midi.write(tmp_path / "a.mid", hits, TEMPO, SECTIONS, 70.0)
        song = midi.read((tmp_path / "a.mid").read_bytes(), "a.mid")
        for piece, mine in hits.items():
            assert [t for t, _ in song.hits[piece]] == pytest.approx([h.time_s for h in mine], abs=6e-5)
            assert [v for _, v in song.hits[piece]] == [h.velocity for h in mine]
        assert song.sections == SECTIONS
        assert song.warnings == ()
        lines = bars_of(TEMPO).lines_s(70.0)
        assert bars_of(song.tempo).lines_s(70.0)[: len(lines)] == pytest.approx(lines, abs=5e-5)

    def test_another_reader_agrees(self, tmp_path):
        """The seconds that the MIDI library itself plays are ours."""
        hits = {"snare": [Hit("snare", t, -8.0, 99, False) for t in (0.3, 5.5, 12.25, 40.0)]}
        midi.write(tmp_path / "a.mid", hits, TEMPO, (), 50.0)
        at, times = 0.0, []
        for message in mido.MidiFile(tmp_path / "a.mid"):
            at += message.time
            if message.type == "note_on":
                assert (message.channel, message.note, message.velocity) == (9, 38, 99)
                times.append(at)
        assert times == pytest.approx([0.3, 5.5, 12.25, 40.0], abs=1e-4)


class TestRead:
    """Files of other tools."""

    def test_tempo_within_a_bar(self):
        """The bar's length is what counts: two beats at 120 and two at 60 make three seconds."""
        song = midi.read(
            file_of(
                (0, meta("set_tempo", tempo=500_000)),
                (960, meta("set_tempo", tempo=1_000_000)),
                (2880, meta("text", text="x")),
            ),
            "a.mid",
        )
        assert bars_of(song.tempo).lines_s(6.9) == pytest.approx([0.0, 3.0, 7.0])

    def test_meter_within_a_bar(self):
        """Holds from the next line on, and is said."""
        song = midi.read(
            file_of(
                (0, meta("set_tempo", tempo=500_000)), (480, meta("time_signature", numerator=3, denominator=4)),
                (4800, meta("text", text="x")),
            ),
            "a.mid",
        )  # fmt: skip
        assert [(c.bar, c.beats_per_bar) for c in song.tempo.changes] == [(1, 3)]
        assert any("within bar 1" in w for w in song.warnings)

    def test_no_tempo(self):
        """Notes are read, bar lines not."""
        song = midi.read(file_of((480, mido.Message("note_on", channel=9, note=36, velocity=80))), "a.mid")
        assert song.tempo is None
        assert song.hits == {"kick": [(0.5, 80)]}
        assert any("names no tempo" in w for w in song.warnings)

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            (b"", "not a Standard MIDI"),
            (b"RIFF0000WAVE0000", "not a Standard MIDI"),
            (b"MThd\0\0\0\6\0\1\0\1\xe7\x28", "film frames"),
            (b"MThd\0\0\0\6\0\1\0\1\1\xe0MTrk\0\0\xff\xff\0", "damaged"),
        ],
    )
    def test_refused(self, data, said):
        """In one sentence."""
        with pytest.raises(SettingsError, match=said):
            midi.read(data, "a.mid")

    def test_mutated_files(self):
        """Are read or refused, never anything else."""
        rng = np.random.default_rng(23)
        good = file_of(
            (0, meta("set_tempo", tempo=400_000)), (0, meta("time_signature", numerator=4, denominator=4)),
            (10, meta("marker", text="verse")), *[(120, mido.Message("note_on", channel=9, note=38, velocity=64))] * 12,
        )  # fmt: skip
        refused = 0
        for _ in range(400):
            data = bytearray(good)
            for at in rng.integers(0, len(data), int(rng.integers(1, 6))):
                data[at] = int(rng.integers(0, 256))
            try:
                midi.read(bytes(data[: int(rng.integers(8, len(data) + 1))]), "a.mid")
            except SettingsError:
                refused += 1
        assert 0 < refused < 400

    @pytest.mark.long
    def test_more_events_than_a_song_has(self):
        """However small a file they fit into; what is within the bound is read."""
        note = bytes([0, 0x99, 36, 100]) + bytes([0, 36, 0]) * 3

        def song(body: bytes) -> bytes:
            track = body + b"\x00\xff\x2f\x00"
            return b"MThd" + struct.pack(">IHHH", 6, 0, 1, 96) + b"MTrk" + struct.pack(">I", len(track)) + track

        assert len(midi.read(song(note * 1000), "x.mid").hits["kick"]) == 1000
        with pytest.raises(SettingsError, match=r"x\.mid: holds more than 200000 events"):
            midi.read(song(note * 60_000), "x.mid")

    def test_many_tempo_changes(self):
        """A map is read in the time that its length takes, not the square of it: 20 000 changes were minutes."""
        change = b"\x01\xff\x51\x03\x07\xa1\x20"
        track = change * 20_000 + b"\x00\xff\x2f\x00"
        data = b"MThd" + struct.pack(">IHHH", 6, 0, 1, 96) + b"MTrk" + struct.pack(">I", len(track)) + track
        assert midi.read(data, "x.mid").tempo.bpm == 120.0

    def test_too_long_a_time(self, monkeypatch):
        """Whatever it is that takes so long."""
        monkeypatch.setattr(midi, "LONGEST_READ_S", -1.0)
        with pytest.raises(SettingsError, match="takes more than"):
            midi.read(b"MThd" + struct.pack(">IHHH", 6, 0, 1, 96) + b"MTrk\x00\x00\x00\x00", "x.mid")
