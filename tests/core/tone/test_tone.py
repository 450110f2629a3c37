"""Tone: what is measured in a mic, and the first choice that follows."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import MicPlan
from arkund.core.tone.measure import measure
from arkund.core.tone.propose import propose
from arkund.core.tools.tone import Band
from tests.kits import small_kit

RATE = 48_000


class TestMeasure:
    """Fundamental, ring and separation in generated mics."""

    def test_fundamentals(self, straight):
        """Within 5 % of the voice's tuning: struck hard, a head starts a little higher."""
        for name, piece in (("SN top", "snare"), ("FT", "floor"), ("T1", "tom1")):
            mic = straight.plan.mic(name)
            found = measure(straight.readers[name].read, straight.samples, mic, straight.hits, RATE)
            assert found.fundamental_hz == pytest.approx(straight.kit.voices[piece].tune_hz, rel=0.05)

    def test_planted_ring(self):
        """A narrow ring is found at its frequency; without one none is."""
        import dataclasses

        from arkund.core.demo.room import usual_voices

        voices = usual_voices()
        ringing = voices | {"snare": dataclasses.replace(voices["snare"], ring_hz=905.0, ring_db=-12.0)}
        kit = small_kit(seed=71, style="straight", bpm=100.0, bars=6, voices=ringing)
        found = measure(kit.readers["SN top"].read, kit.samples, kit.plan.mic("SN top"), kit.hits, RATE)
        assert found.ring.frequency_hz == pytest.approx(905.0, rel=0.01)
        assert found.ring.above_db > 10
        assert found.ring.decay_s > 0.5
        for name in ("KD in", "KD out", "T1", "FT", "HH"):  # it is heard in them, and is not theirs
            other = measure(kit.readers[name].read, kit.samples, kit.plan.mic(name), kit.hits, RATE).ring
            assert other is None or abs(other.frequency_hz - 905.0) > 40.0, name

    def test_own_stands_above_between(self, straight):
        """A mic's spectrum during own hits lies over what it hears between hits."""
        mic = straight.plan.mic("SN top")
        found = measure(straight.readers["SN top"].read, straight.samples, mic, straight.hits, RATE)
        band = [i for i, f in enumerate(found.axis_hz) if 150 < f < 5000]
        assert np.mean([found.own_db[i] - found.between_db[i] for i in band]) > 10

    def test_no_hits(self):
        """A piece that is never played has no fundamental, and is no error."""
        mic = MicPlan(id="t", name="T3", piece="tom3", role="close")
        found = measure(ArrayMic(np.zeros(48_000)).read, 48_000, mic, {}, RATE)
        assert found.fundamental_hz is None
        assert found.ring is None


class TestPropose:
    """First choices say where their figures come from."""

    @pytest.mark.parametrize(("piece", "role"), [("kick", "in"), ("kick", "out"), ("snare", "top"), ("tom1", "close")])
    def test_a_piece_that_is_never_played(self, piece, role):
        """It has nothing to be measured by, and that is said instead."""
        mic = MicPlan(id="m", name="M", piece=piece, role=role)
        needed, *_ = propose(mic, measure(ArrayMic(np.zeros(48_000)).read, 48_000, mic, {}, RATE)) or (None,)
        if piece == "kick":
            assert "no own hit" in needed.evidence

    def test_high_pass_follows_the_fundamental(self, straight):
        """A tom's high-pass lies under its measured fundamental."""
        mic = straight.plan.mic("FT")
        found = measure(straight.readers["FT"].read, straight.samples, mic, straight.hits, RATE)
        needed, taste = propose(mic, found)
        bands = needed.changes["mics.FT.tools.tone"]["bands"]
        assert bands[0]["kind"] == "high_pass"
        assert bands[0]["frequency_hz"] < found.fundamental_hz
        assert "measured" in needed.evidence
        assert taste.changes["mics.FT.tools.tone"]["bands"][: len(bands)] == bands

    def test_every_mic_of_the_kit(self, straight):
        """All proposals are valid settings; what needs no measured fault, lifts above all, is no first choice."""
        for mic in straight.plan.mics:
            found = measure(straight.readers[mic.name].read, straight.samples, mic, straight.hits, RATE)
            for note in propose(mic, found):
                bands = [Band.from_json(band) for band in note.changes[f"mics.{mic.id}.tools.tone"]["bands"]]
                assert not (note.first_choice and any(band.gain_db > 0.0 for band in bands))
