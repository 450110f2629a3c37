"""Peaks at own hits, clipped places, and trims."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.files.audio import ArrayMic
from arkund.core.hits.resolve import Hit
from arkund.core.level.measure import mic_level, section_levels, sticking_out
from arkund.core.level.propose import propose, propose_kit, propose_outliers, propose_sections, to_middle
from arkund.core.level.settings import SCHOOLS, Window
from arkund.core.plan.change import put
from arkund.core.plan.plan import MicPlan, Plan, Section, Tempo
from arkund.core.timing.bars import bars_of

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

    def test_to_the_middle(self):
        """What lies within its window but off its middle, too; what is there, and what is never struck, is left alone."""
        level = mic_level(pulses({0.5: -9.0, 1.5: -9.0}), "m", [0.5, 1.5], True, RATE)
        trims = to_middle(self.plan("snare"), {"m": level}, Window())
        assert trims == {"m": pytest.approx(1.0, abs=0.06)}
        assert to_middle(put(self.plan("snare"), {"mics.m.trim_db": trims["m"]}), {"m": level}, Window()) == {}
        assert to_middle(self.plan("snare"), {}, Window()) == {}

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

    def test_long_clipping_is_only_named(self):
        """Two milliseconds of flat top say too little of what was there."""
        x = np.zeros(RATE)
        x[1000:1100] = 1.0
        level = mic_level(ArrayMic(x), "m", [1000 / RATE], True, RATE)
        clip = [f for f in propose(self.plan("snare"), {"m": level}, Window()) if "clip" in f.key]
        assert len(clip) == 1
        assert not clip[0].changes


class TestSections:
    """A piece that is played louder in one section."""

    plan = Plan(
        mics=(
            MicPlan(id="hh", name="HH", piece="hihat", role="spot"),
            MicPlan(id="oh", name="OH", piece="kit", role="overhead"),
        ),
        tempo=Tempo(bpm=120.0),
        sections=(Section(name="verse", bar=0), Section(name="chorus", bar=4), Section(name="end", bar=8)),
    )

    def hits(self):
        return [Hit("hihat", k * 0.25 + 0.01, -12.0 - (7.0 if 32 <= k < 64 else 0.0), 90, False) for k in range(96)]

    def test_levels(self):
        """Against the median of the song."""
        found = section_levels(self.hits(), self.plan.sections, bars_of(self.plan.tempo))
        assert [(s.section, s.hits, s.against_song_db) for s in found] == [
            ("verse", 32, 0.0),
            ("chorus", 32, -7.0),
            ("end", 32, 0.0),
        ]

    def test_gains_even_it_out(self):
        """Up in the chorus, back after it, on the piece's own mic only."""
        levels = {"hihat": section_levels(self.hits(), self.plan.sections, bars_of(self.plan.tempo))}
        (note,) = propose_sections(self.plan, levels)
        (scene,) = put(self.plan, note.changes).scenes
        assert scene.sections == ("chorus",)
        assert [(held.place, held.value) for held in scene.held] == [("mics.hh.trim_db", 7.0)]
        (again,) = propose_sections(put(self.plan, note.changes), levels)
        assert again.changes == note.changes

    def test_few_hits_do_not_tell(self):
        """Four in a section are none."""
        assert section_levels(self.hits()[:4], self.plan.sections, bars_of(self.plan.tempo)) == []


class TestSchools:
    """Windows by school."""

    @pytest.mark.parametrize(
        ("school", "piece", "role", "window"),
        [
            ("peaks", "kick", "in", (-10.0, -6.0)),
            ("peaks", "floor", "close", (-13.0, -9.0)),
            ("peaks", "snare", "bottom", (-14.0, -10.0)),
            ("headroom", "tom1", "close", (-15.0, -12.0)),
        ],
    )
    def test_windows(self, school, piece, role, window):
        """Toms lower, the snare's bottom under its top."""
        assert SCHOOLS[school][0].of(piece, role) == window

    def test_upside_down(self):
        """Is refused."""
        with pytest.raises(SettingsError, match="below its lower end"):
            Window(low_db=-6.0, high_db=-10.0)


class TestKit:
    """The sum of all mics."""

    def test_too_loud(self):
        """One step on all mics brings it below the limit."""
        plan = TestSections.plan
        (note,) = propose_kit(plan, -2.0, Window())
        assert set(note.changes.values()) == {-4.0}
        assert propose_kit(plan, -7.0, Window()) == []

    def test_a_tom_that_sticks_out(self):
        """Is named with its place; the others are not."""
        hits = [Hit("tom1", float(k), -12.0 + (8.0 if k == 5 else 0.0), 90, False) for k in range(9)]
        assert sticking_out(hits) == [(5.0, 8.0)]
        plan = Plan(mics=(MicPlan(id="t1", name="T1", piece="tom1", role="close"),))
        (note,) = propose_outliers(plan, {"tom1": sticking_out(hits), "kick": [(1.0, 9.0)]})
        assert "5.00 s" in note.evidence
