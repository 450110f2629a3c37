"""Tone: the equaliser's curve, what is measured in a mic, and the first choice that follows."""

import itertools

import numpy as np
import pytest

from arkund.core.dsp import filters
from arkund.core.dsp.bank import NARROW, bank_of
from arkund.core.dsp.reach import NOTHING
from arkund.core.errors import SettingsError
from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import MicPlan
from arkund.core.tone.measure import measure
from arkund.core.tone.process import HIGHEST_SHARE, curve_db, equaliser, reach, sections
from arkund.core.tone.propose import propose
from arkund.core.tone.settings import MOST_BANDS, SHELVES, Band, ToneSettings
from tests.kits import small_kit
from tests.stages import through

RATE = 48_000


class TestProcess:
    """What is heard has the curve that is shown."""

    @pytest.mark.parametrize("seed", [1, 2, 3])
    def test_curve_is_the_measured_response(self, seed):
        """The spectrum of the impulse response equals the drawn curve within 0.02 dB."""
        rng = np.random.default_rng(seed)
        bands = tuple(
            Band(
                kind=k,
                frequency_hz=float(rng.uniform(80, 9000)),
                gain_db=float(rng.uniform(-12, 12)),
                slope_db=int(6 * rng.integers(1, 9)),
            )
            for k in ("high_pass", "bell", "low_shelf", "high_shelf", "low_pass")
        )
        settings = ToneSettings(
            bands=(bands[0].replace(frequency_hz=60.0), *bands[1:4], bands[4].replace(frequency_hz=15_000.0))
        )
        impulse = np.zeros(1 << 16, np.float32)
        impulse[100] = 1.0
        out = through(equaliser([settings], RATE, NARROW), bank_of([impulse]))[:, 0].astype(float)
        axis = np.geomspace(40, 18_000, 200)
        spectrum = np.abs(
            np.array([np.sum(out * np.exp(-2j * np.pi * f * np.arange(out.size) / RATE)) for f in axis[::10]])
        )
        wanted = curve_db(settings, axis[::10], RATE)
        loud = wanted > -60
        assert np.max(np.abs(20 * np.log10(spectrum) - wanted)[loud]) < 0.02

    def test_off_means_off(self):
        """Bands that are off, bells of 0 dB and a switched-off equaliser do nothing."""
        bank = bank_of([np.random.default_rng(1).standard_normal(1000)])
        for settings in (
            ToneSettings(bands=(Band(gain_db=0.0),)),
            ToneSettings(bands=(Band(gain_db=6.0, on=False),)),
            ToneSettings(on=False, bands=(Band(gain_db=6.0),)),
        ):
            assert sections(settings, RATE) == ()
            assert np.array_equal(through(equaliser([settings], RATE, NARROW), bank), bank)
            assert reach(settings, RATE) == NOTHING

    def test_high_frequencies_at_low_rates(self):
        """20 kHz is allowed in a 44.1 kHz recording."""
        settings = ToneSettings(
            bands=(Band(frequency_hz=20_000.0, gain_db=6.0), Band(kind="low_pass", frequency_hz=20_000.0))
        )
        assert np.all(np.isfinite(curve_db(settings, np.array([100.0, 19_000.0]), 44_100)))

    def test_number_of_bands(self):
        """As many as wanted, within reason."""
        with pytest.raises(SettingsError, match="at most"):
            ToneSettings(bands=(Band(),) * (MOST_BANDS + 1))


class TestBand:
    """What a band may be is what can be rendered."""

    @pytest.mark.parametrize("kind", SHELVES)
    def test_shelves_are_no_resonances(self, kind):
        """Beyond Q 2 they are refused in words; within, at every end of every range and all rates, they follow their curve and settle soon."""
        with pytest.raises(SettingsError, match=r"q: 2\.05 is outside 0.3 to 2 for a shelf"):
            Band(kind=kind, q=2.05)
        axis = np.geomspace(20, 19_900, 400)
        for frequency, gain, q, rate in itertools.product(
            (20.0, 20_000.0), (-15.0, 15.0), (0.3, 2.0), (44_100, 96_000)
        ):
            (section,) = sections(
                ToneSettings(bands=(Band(kind=kind, frequency_hz=frequency, gain_db=gain, q=q),)), rate
            )
            assert section.settle_samples() < 2 * rate
            a = 10 ** (gain / 40)
            root = np.sqrt(a) / q
            shape = {
                "low_shelf": ((a, a * root, a * a), (a, root, 1)),
                "high_shelf": ((a * a, a * root, a), (1, root, a)),
            }
            tuned = min(frequency, HIGHEST_SHARE * rate + 155.0)
            wanted = filters.analogue_db(*shape[kind], axis, tuned)
            assert np.abs(filters.magnitude_db((section,), axis, rate) - wanted).max() < 0.5


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
        found = propose(mic, measure(ArrayMic(np.zeros(48_000)).read, 48_000, mic, {}, RATE))
        if piece == "kick":
            assert "no own hit" in found.evidence

    def test_high_pass_follows_the_fundamental(self, straight):
        """A tom's high-pass lies under its measured fundamental."""
        mic = straight.plan.mic("FT")
        found = measure(straight.readers["FT"].read, straight.samples, mic, straight.hits, RATE)
        bands = propose(mic, found).changes["mics.FT.tone.bands"]
        assert bands[0]["kind"] == "high_pass"
        assert bands[0]["frequency_hz"] < found.fundamental_hz
        assert "measured" in propose(mic, found).evidence

    def test_every_mic_of_the_kit(self, straight):
        """All proposals are valid settings."""
        for mic in straight.plan.mics:
            found = measure(straight.readers[mic.name].read, straight.samples, mic, straight.hits, RATE)
            note = propose(mic, found)
            for band in note.changes[f"mics.{mic.id}.tone.bands"] if note else ():
                Band.from_json(band)
