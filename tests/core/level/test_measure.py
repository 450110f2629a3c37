"""Peaks at own hits, clipped places, and trims."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.level.measure import mic_level
from arkund.core.level.propose import propose
from arkund.core.level.settings import Window
from arkund.core.plan.plan import MicPlan, Plan

RATE = 48_000


def pulses(levels: dict[float, float], seconds: float = 4.0) -> ArrayMic:
    out = np.random.default_rng(1).standard_normal(int(seconds * RATE)) * 1e-4
    for at, level_db in levels.items():
        start = int(at * RATE)
        out[start : start + 400] += 10 ** (level_db / 20) * np.hanning(400)
    return ArrayMic(out)


class TestMicLevel:
    """The distribution of peaks, not one number."""

    def test_peaks_at_hits(self):
        """Each hit's own peak; what lies between hits does not count."""
        mic = pulses({0.5: -12.0, 1.5: -6.0, 2.5: -18.0, 3.2: -1.0})
        found = mic_level(mic, "sn", [0.5, 1.5, 2.5], True, RATE)
        assert found.hit_peaks_db == pytest.approx((-12.0, -6.0, -18.0), abs=0.05)
        assert found.peak_db == pytest.approx(-1.0, abs=0.05)
        assert found.noise_db == pytest.approx(-80.0, abs=1.0)

    def test_clipped_places(self):
        """Flat tops are found where they are; one full sample is not clipping."""
        x = np.zeros(2 * RATE)
        x[10_000:10_020] = 1.0
        x[50_000] = 1.0
        x[70_000:70_004] = -1.0
        found = mic_level(ArrayMic(x), "oh", [], True, RATE)
        assert found.clipped_at_s == pytest.approx((10_000 / RATE, 70_000 / RATE))
        assert found.clipped_places == "2"

    def test_no_hits(self):
        """A drum that is never struck has no peaks of its own."""
        assert mic_level(pulses({}), "t3", [], True, RATE).hit_peaks_db == ()


class TestPropose:
    """Trims into the window; toms 3 dB lower."""

    def plan(self, piece: str) -> Plan:
        return Plan(take="t", mics=(MicPlan(id="m", name="m", piece=piece, role="close"),))

    @pytest.mark.parametrize(("piece", "aim"), [("snare", -8.0), ("tom1", -11.0)])
    def test_brings_peaks_into_the_window(self, piece, aim):
        """The trim lands in the middle of the piece's window."""
        level = mic_level(pulses({0.5: -20.0, 1.5: -20.0}), "m", [0.5, 1.5], True, RATE)
        (note,) = propose(self.plan(piece), {"m": level}, Window())
        assert level.typical_db + note.changes["mics.m.trim_db"] == pytest.approx(aim, abs=0.1)

    def test_leaves_what_is_right(self):
        """Doing nothing is a decision too."""
        level = mic_level(pulses({0.5: -8.0}), "m", [0.5], True, RATE)
        assert propose(self.plan("snare"), {"m": level}, Window()) == []

    def test_clipping_is_only_named(self):
        """No trim brings a flat top back."""
        x = np.zeros(RATE)
        x[1000:1100] = 1.0
        level = mic_level(ArrayMic(x), "m", [1000 / RATE], True, RATE)
        clip = [f for f in propose(self.plan("snare"), {"m": level}, Window()) if "clip" in f.key]
        assert len(clip) == 1
        assert not clip[0].changes
