"""Fundamental, ring and box against the generator's truth, on kits of seeds of their own."""

import dataclasses

import numpy as np
import pytest

from arkund.core.demo.recording import varied_kit
from arkund.core.dsp import filters
from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import MicPlan
from arkund.core.tone import peaks
from arkund.core.tone.measure import measure
from tests.kits import small_kit

TO_60_DB = 6.9078  # time constants
RATE = 48_000
LONG = [(57301, "straight", 104.0), (57303, "slow", 76.0), (57304, "sixeight", 62.0)]
KITS = [
    (57302, "busy", 96.0),
    *(pytest.param(*each, marks=pytest.mark.long) for each in LONG),
]


def played(seed: int, style: str, bpm: float, **voice):
    """Return a kit of eight bars, its snare with another voice where one is given."""
    if not voice:
        return small_kit(seed=seed, style=style, bpm=bpm, bars=8)
    voices = varied_kit(seed).voices
    voices |= {"snare": dataclasses.replace(voices["snare"], **voice)}
    return small_kit(seed=seed, style=style, bpm=bpm, bars=8, voices=voices)


def found_in(kit, name: str):
    return measure(kit.readers[name].read, kit.samples, kit.plan.mic(name), kit.hits, kit.sample_rate_hz)


SHELLS = ("KD in", "KD out", "SN top", "T1", "T2", "FT")


@pytest.mark.parametrize(("seed", "style", "bpm"), KITS)
class TestKitsWithoutARing:
    """Pitches are those of the voices, and nothing is claimed that is not there."""

    def test_fundamentals_and_no_ring(self, seed, style, bpm):
        """Within 2 % in every shell mic; a ring in none."""
        kit = played(seed, style, bpm)
        for name in SHELLS:
            piece = kit.plan.mic(name).piece
            if not kit.hits.get(piece):
                continue
            found = found_in(kit, name)
            assert found.fundamental_hz == pytest.approx(kit.kit.voices[piece].tune_hz, rel=0.02), name
            assert found.ring is None, name


@pytest.mark.parametrize(("seed", "style", "bpm"), KITS)
class TestKitsWithARing:
    """A ring of any pitch, strength and length in the snare."""

    def test_found(self, seed, style, bpm):
        """Its frequency within 2 %, the time in which it falls by 60 dB within 15 %, in the top mic; no other drum claims it."""
        rng = np.random.default_rng(seed)
        hz, strong_db, lasts_s = rng.uniform(450, 1400), rng.uniform(-19, -11), rng.uniform(0.16, 0.45)
        kit = played(seed, style, bpm, ring_hz=hz, ring_db=strong_db, ring_s=lasts_s)
        ring = found_in(kit, "SN top").ring
        assert ring.frequency_hz == pytest.approx(hz, rel=0.02)
        assert ring.decay_s == pytest.approx(TO_60_DB * lasts_s, rel=0.15)
        for name in ("KD in", "KD out", "T1", "FT"):
            other = found_in(kit, name).ring
            assert other is None or abs(other.frequency_hz / hz - 1) > 0.03, name


class TestBox:
    """Where a drum is boxy."""

    @pytest.mark.parametrize("hz", [420.0, 500.0, 620.0])
    @pytest.mark.parametrize("piece", ["snare", "tom1"])
    def test_planted(self, hz, piece):
        """A hump of 10 dB in noise that falls evenly is found within 5 %, with at least half of its height over the line through what is around it."""
        rng = np.random.default_rng(3)
        shape = np.exp(-np.arange(RATE // 2) / (0.05 * RATE))
        strokes = [rng.standard_normal(RATE // 2) * shape for _ in range(24)]
        x = np.concatenate(strokes).astype(np.float32)
        hump = (filters.bell(hz, 10.0, 2.5, RATE), filters.low_pass(150.0, 1, RATE)[0])
        mic = ArrayMic(filter_bank(bank_of([x]), [hump])[:, 0])
        starts = [k * RATE // 2 for k in range(24)]
        found_hz, above_db = peaks.box_hz(mic.read, starts, piece, RATE)
        assert found_hz == pytest.approx(hz, rel=0.05)
        assert above_db > 4.0

    def test_no_hits(self):
        """None of any of them, and no error."""
        found = measure(
            ArrayMic(np.zeros(RATE)).read, RATE, MicPlan(id="k", name="K", piece="kick", role="in"), {}, RATE
        )
        assert (found.fundamental_hz, found.ring, found.box) == (None, None, None)


def test_strokes_that_are_heard_out():
    """Those after which a drum rests, ghosts counted; where there are hardly any, those with most time."""
    times = [0.0, 1.0, 1.2, 3.0, 3.1, 5.0]  # until the next: 1.0, 0.2, 1.8, 0.1, 1.9, 0.25
    assert peaks.alone(times, [*times, 5.25]) == [0.0, 1.2, 3.1, 5.0, 1.0, 3.0]
    many = [float(k) for k in range(20)]
    assert set(peaks.alone(many, [*many, 3.2, 4.4])) == set(many) - {3.0}
