"""The generated kit: truth that holds in the audio, planted problems where they are said to be."""

import itertools
import json

import numpy as np
import pytest
import soundfile

from arkund.core.demo import song
from arkund.core.demo.recording import close_mic, varied_kit
from arkund.core.demo.room import arrival_s, distance_m, heard, usual_mics, usual_voices
from arkund.core.demo.score import GHOST_BELOW_DB, HARD_CASES, Playing, bar_s, play
from arkund.core.demo.strokes import Voice, stroke
from tests.kits import small_kit


class TestStrokes:
    """Drums and cymbals, by level."""

    @pytest.mark.parametrize("piece", list(usual_voices()))
    @pytest.mark.parametrize("rate", [44_100, 96_000])
    def test_every_piece(self, piece, rate):
        """Normalised, finite, decaying."""
        shapes = ("closed", "open", "half", "foot") if piece == "hihat" else ("",)
        for shape in shapes:
            stems = stroke(usual_voices()[piece], shape, 0.0, 3, rate)
            peak = max(np.abs(s).max() for s in stems.values())
            assert peak == pytest.approx(1.0)
            for stem in stems.values():
                assert np.all(np.isfinite(stem))
                assert np.mean(stem[-stem.size // 10 :] ** 2) < 0.05 * np.mean(stem[: stem.size // 4] ** 2)

    def test_harder_is_brighter(self):
        """The spectrum's centre rises with level."""

        def centre(level_db):
            head = stroke(Voice(family="snare", tune_hz=190.0), "", level_db, 5, 48_000)["head"]
            power = np.abs(np.fft.rfft(head)) ** 2
            return np.sum(power * np.fft.rfftfreq(head.size, 1 / 48_000)) / power.sum()

        assert centre(0.0) > 1.3 * centre(-28.0)

    def test_a_tom_has_its_tuning(self):
        """The strongest line lies at the fundamental."""
        head = stroke(Voice(family="tom", tune_hz=110.0, decay_s=0.4), "", -12.0, 5, 48_000)["head"]
        power = np.abs(np.fft.rfft(head, 1 << 17)) ** 2
        assert np.argmax(power) * 48_000 / (1 << 17) == pytest.approx(110.0, rel=0.03)


class TestRoom:
    """Distance makes time and loss."""

    def test_arrival(self):
        """34.3 cm per ms."""
        mic = usual_mics()[0]
        assert arrival_s(mic, "floor") * 34_320 == pytest.approx(
            100 * distance_m(mic.at_m, (0.55, -0.05, 0.62)), rel=0.01
        )

    def test_own_piece_is_loudest_and_brightest(self):
        """In a close mic, on its axis."""
        voices = usual_voices()
        for mic in usual_mics():
            if mic.role in ("in", "top", "close"):
                own = heard(mic, mic.piece, voices[mic.piece])
                assert all(own[0] > 2 * heard(mic, p, voices[p])[0] for p in voices if p != mic.piece), mic.name


class TestScore:
    """Styles, feel and hard cases."""

    @pytest.mark.parametrize("style", ["straight", "busy", "slow", "sixeight"])
    def test_styles(self, style):
        """Kick on one, backbeats, fills; sorted, and the same for the same seed."""
        playing = Playing(style=style, bars=8, seed=5)
        strokes = play(playing)
        assert strokes == play(playing)
        assert [s.time_s for s in strokes] == sorted(s.time_s for s in strokes)
        pieces = {s.piece for s in strokes}
        assert {"kick", "snare", "hihat"} <= pieces
        assert strokes[-1].time_s < playing.start_s + 8 * bar_s(playing)

    def test_hard_cases_can_be_made(self):
        """Each adds what it says."""
        hard = play(Playing(style="busy", bars=16, seed=6, hard=HARD_CASES, start_s=3.0))
        times = {
            p: np.array([s.time_s for s in hard if s.piece == p]) for p in ("kick", "snare", "hihat", "crash", "sticks")
        }
        near = [np.min(np.abs(times["kick"] - t)) for t in times["snare"]]
        assert any(0.001 < gap < 0.025 for gap in near)
        assert any(s.articulation == "foot" for s in hard)
        assert any(s.articulation == "open" for s in hard)
        assert times["sticks"].size == 4
        assert times["crash"].size > 3

    def test_ghosts_and_flams(self):
        """Ghosts 20 to 26 dB down, flams 18 to 35 ms before the stroke."""
        strokes = play(Playing(style="busy", bars=12, seed=8, flam_share=0.5))
        ghosts = [s.level_db for s in strokes if s.piece == "snare" and s.level_db < GHOST_BELOW_DB]
        assert ghosts
        assert -26.5 < min(ghosts) <= max(ghosts) < -19
        snares = [s.time_s for s in strokes if s.piece == "snare"]
        assert any(0.015 < b - a < 0.036 for a, b in itertools.pairwise(snares))


class TestTruth:
    """The truth is what the audio holds."""

    def test_onsets_are_in_the_audio(self):
        """At each true time of an isolated stroke the mic passes a tenth of its peak within a sample or two."""
        kit = small_kit(
            seed=31, style="slow", bpm=60.0, bars=3, noise_dbfs=-120.0, play_with={"fills": False, "spread_ms": 0.0}
        )
        audio = kit.audio[close_mic(kit.kit, "kick").name]
        for hit in kit.truth["kick"][:3]:
            at = round(hit.time_s * 48_000)
            part = np.abs(audio[at - 200 : at + 2000])
            first = int(np.argmax(part > 0.1 * part.max())) - 200
            assert abs(first) <= 3

    def test_variations(self):
        """Other seeds are other kits; rates, hum and DC are possible."""
        a, b = varied_kit(1), varied_kit(2)
        assert a.voices["snare"].tune_hz != b.voices["snare"].tune_hz
        kit = small_kit(seed=5, style="straight", bpm=120.0, bars=1, rate=44_100, hum_dbfs=-40.0, dc=0.02)
        quiet = kit.audio["T1"][: 44_100 // 2]
        assert np.mean(quiet) == pytest.approx(0.02, abs=2e-3)
        assert 20 * np.log10(np.std(quiet)) == pytest.approx(-42.5, abs=2.0)


@pytest.mark.long
class TestSong:
    """The demo's files and planted problems."""

    @pytest.fixture(scope="class")
    def demo(self, tmp_path_factory):
        folder = tmp_path_factory.mktemp("demo")
        seen = []
        truth = song.generate(folder, lambda share, text: seen.append(share), takes=1)
        assert seen == sorted(seen)
        return folder, truth

    def test_size(self, demo):
        """15 mics or more, 100 s or more, 24 bit at 48 kHz, of three takes."""
        folder, _ = demo
        assert len(song.TAKES) == 3
        files = list((folder / "Take 1").glob("*.wav"))
        assert len(files) >= 15
        info = soundfile.info(files[0])
        assert (info.samplerate, info.subtype) == (48_000, "PCM_24")
        assert info.duration >= 100

    def test_problems_are_in_the_audio(self, demo):
        """Clipped overhead, inverted room, swapped toms, a missing backbeat."""
        folder, truth = demo
        assert json.loads((folder / "truth.json").read_text()) == truth
        take = folder / "Take 1"
        hot, _ = soundfile.read(take / "OH L.wav")
        assert np.count_nonzero(np.abs(hot) > 0.9999) > 100
        hits = truth["takes"]["Take 1"]["hits"]
        gone = truth["takes"]["Take 1"]["dropped_snare_s"]
        assert min(abs(h["time_s"] - gone) for h in hits["snare"]) > 0.1
        assert len(hits["floor"]) == 4
        tom, _ = soundfile.read(take / "T2.wav")
        at = int(hits["tom1"][3]["time_s"] * 48_000)
        other, _ = soundfile.read(take / "T1.wav")
        assert np.abs(tom[at : at + 2000]).max() > np.abs(other[at : at + 2000]).max()
        assert any(h["ghost"] for h in hits["snare"])
