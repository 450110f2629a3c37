"""Own hits against others' hits in a mic, and what is done about the bleed."""

import numpy as np
import pytest

from arkund.core.clean.measure import Separation, separation
from arkund.core.clean.propose import change, deeper, gate_for, propose, regions_for, start_settings, way_of
from arkund.core.clean.ring import Ringing, ringing
from arkund.core.clean.settings import FOLLOWED_DB, followed_db
from arkund.core.kit.pieces import is_shell
from arkund.core.load.sound import sounds_like_another
from arkund.core.plan import change as changes
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.tools.gate import Gate, gain
from arkund.core.tools.regions import Regions
from tests.core.clean.test_regions import tom

RATE = 48_000
TOM = MicPlan(id="t", name="T", piece="tom1", role="close")
WIDE = Separation("t", (-10.0, -12.0, -11.0), {"snare": (-30.0, -32.0)})
THIN = Separation("t", (-10.0, -34.0), {"kick": (-28.0,)})
RINGS = Ringing((0.0,), -60.0, (-10.0, -12.0), (1.4, 3.5))


def proposed(mic: MicPlan, measured: Separation, look: str = "some life"):
    gate = gate_for(start_settings(mic), measured, RINGS, look, mic)
    return propose(mic, gate, regions_for(mic, RINGS, (1.0, 3.0), look, RATE), measured, look)


class TestSeparation:
    """Own against others, and the proposed threshold."""

    def test_tom_against_bleed(self, straight):
        """In a tom's mic its own hits stand above the snare's by the generator's margin."""
        mic = straight.plan.mic("T1")
        found = separation(straight.readers["T1"].read, mic, straight.hits, start_settings(mic), RATE)
        assert len(found.own_db) == len(straight.truth["tom1"])
        assert np.median(found.own_db) > np.median(found.others_db["snare"]) + 6.0
        assert "tom1" not in found.others_db


class TestAfterTheRing:
    """When a gate closes, and how fast: by how the drum rings."""

    @pytest.mark.parametrize("t60_s", [0.6, 1.2, 2.4])
    @pytest.mark.parametrize("soft_db", [0.0, -7.0])
    def test_stays_open_while_the_drum_is_heard(self, t60_s: float, soft_db: float):
        """Until the usual hit is 30 dB down, and then it adds no more than the drum's own fall; a floor tom was closed 0.27 s in, 8 dB under its peak."""
        times, levels = [0.5, 4.0, 7.5, 11.0], [-8.0, -8.0, -8.0, -8.0 + soft_db]
        x = tom(times, levels, t60_s, 14.0, -90.0)
        rings = ringing(lambda start, stop: x[start:stop], x.size, times, RATE)
        heard = Separation("t", tuple(level + 3.0 for level in levels), {"snare": (-30.0, -31.0)})
        mine = gate_for(start_settings(TOM), heard, rings, "some life", TOM)
        gain_db = 20 * np.log10(gain(x, mine, RATE))
        heard_s = t60_s * FOLLOWED_DB / 60.0
        assert gain_db[round(0.505 * RATE) : round((0.5 + 0.93 * heard_s) * RATE)].min() > -0.5
        later = gain_db[round((0.5 + heard_s) * RATE) : round(3.9 * RATE) : round(0.02 * RATE)]
        assert later.min() < -20.0
        assert np.diff(later).min() / 0.02 > -1.1 * max(60.0 / t60_s, mine.range_db / 1.0)

    def test_into_the_bleed(self):
        """Where bleed covers the ring earlier, it closes there; where a drum is followed less far, sooner still."""
        times = [0.5, 4.0, 7.5, 11.0]
        x = tom(times, [-10.0] * 4, 2.0, 14.0, -27.0)
        rings = ringing(lambda start, stop: x[start:stop], x.size, times, RATE)
        heard = Separation("t", (-7.0,) * 4, {"snare": (-13.0, -14.0)})
        holds = []
        for down_to_db in (FOLLOWED_DB, 10.0):
            mine = gate_for(start_settings(TOM), heard, rings, "some life", TOM, down_to_db)
            falls_s = 2.0 * (-7.0 - mine.threshold_db + mine.hysteresis_db) / 60.0
            holds.append(falls_s + mine.hold_ms / 1000.0)
        top_db = 0.8  # of the loudest 5 ms of a tone of 131 Hz over its RMS
        assert holds[0] == pytest.approx(2.0 * (27.0 - 10.0 + top_db - 3.0) / 60.0, abs=0.1)
        assert holds[1] < holds[0]

    def test_further_in_a_natural_kit(self):
        """By style, and no further than a tight kit wants it."""
        by_style = [followed_db("some life", style) for style in ("natural", "punchy", "heavy")]
        assert by_style == [40.0, 30.0, 25.0]
        assert followed_db("tight", "natural") == 25.0

    def test_a_cut_goes_down_as_the_drum_falls(self):
        """Its fade takes as long as the drum to fall so far; what somebody has set stays."""
        x = tom([0.5, 4.0], [-8.0, -8.0], 1.2, 7.0, -100.0)
        rings = ringing(lambda start, stop: x[start:stop], x.size, [0.5, 4.0], RATE)
        mine = regions_for(TOM, rings, (0.5, 4.0), "some life", RATE)
        assert mine.fade_out_ms == pytest.approx(1000.0 * 1.2 * mine.down_db / 60.0, rel=0.05)
        own = TOM.replace(tools=(mine.replace(fade_out_ms=33.0),))
        assert regions_for(own, rings, (0.5, 4.0), "some life", RATE).fade_out_ms == 33.0


class TestPropose:
    """A gate, a cut by hits, or nothing."""

    def test_wide_margin_gets_a_gate_between(self):
        """The threshold lies between the two, and both distances are said."""
        note = proposed(TOM, WIDE)
        threshold = note.changes["mics.t.tools"][0]["threshold_db"]
        assert WIDE.loudest_other_db < threshold < WIDE.softest_own_db
        assert f"{WIDE.margin_db:.1f} dB" in note.evidence

    def test_thin_margin_is_cut_by_hits(self):
        """Where a threshold cannot tell, what the other mics know does: from each hit to the end of its ring."""
        note = proposed(TOM, THIN)
        tool = note.changes["mics.t.tools"][0]
        assert tool["kind"] == "regions"
        assert tool["spans"] == [[RATE, round(1.4 * RATE)], [3 * RATE, round(3.5 * RATE)]]
        assert note.first_choice
        assert "2 regions" in note.title

    def test_one_that_sounds_like_another_drum_waits(self):
        """What is named wrongly would be cut by another drum's hits: it is asked first."""
        surely = {"tom": -9.7, "floor": -11.2, "snare top": -0.005, "kick in": -12.0}
        assert sounds_like_another("tom2", surely) == "snare top"
        assert sounds_like_another("snare", surely) == ""
        assert sounds_like_another("tom2", surely | {"tom": -3.0}) == ""
        assert sounds_like_another("tom2", {}) == ""
        note = propose(TOM, Gate(), Regions(spans=((1, 2),)), THIN, "some life", "snare top")
        assert not note.first_choice
        assert "sounds like snare top" in note.evidence

    def test_a_snare_waits_for_the_ear(self):
        """Ghosts that nobody found would go down with the bleed."""
        note = proposed(TOM.replace(piece="snare", role="top"), THIN)
        assert note.changes
        assert not note.first_choice

    @pytest.mark.parametrize(("look", "down_db"), [("tight", 60.0), ("some life", 24.0)])
    def test_the_look_says_how_far(self, look: str, down_db: float):
        """Of both ways."""
        assert proposed(TOM, THIN, look).changes["mics.t.tools"][0]["down_db"] == down_db
        assert proposed(TOM, WIDE, look).changes["mics.t.tools"][0]["range_db"] == down_db

    def test_open_leaves_all(self):
        """Where the bleed is part of the sound, nothing is proposed."""
        assert proposed(TOM, THIN, "open") is None
        assert proposed(TOM, WIDE, "open") is None

    def test_nothing_without_own_hits(self):
        """A mic of a drum that is not played is not judged; overheads live from the whole kit."""
        assert proposed(TOM, Separation("t", (), {"kick": (-20.0,)})) is None
        assert not is_shell("kit")


class TestWays:
    """One or the other, not both."""

    def test_one_switches_the_other_off(self):
        """From a gate to a cut, and from there to neither; what was set stays for the way back."""
        plan = Plan(mics=(TOM.replace(tools=(Gate(on=True, threshold_db=-31.0),)),))
        cut = Regions(on=True, spans=((100, 900),))
        plan = changes.put(plan, change(plan.mics[0], "cut", Gate(), cut))
        assert [(t.kind, t.on) for t in plan.mics[0].tools] == [("regions", True), ("gate", False)]
        plan = changes.put(plan, change(plan.mics[0], "leave", Gate(), cut))
        assert [(t.kind, t.on) for t in plan.mics[0].tools] == [("regions", False), ("gate", False)]
        assert plan.mics[0].first("gate").threshold_db == -31.0
        assert plan.mics[0].first("regions").spans == ((100, 900),)

    def test_a_gate_that_ducks_cleans_nothing(self):
        """It makes room for another drum: the mic counts as left, and how clean the kit is meant to be does not move it."""
        tucked = Gate(id="under-snare", on=True, does="ducks", range_db=6.0)
        hat = TOM.replace(tools=(Gate(range_db=18.0), tucked))
        assert way_of(hat) == "leave"
        assert deeper(hat, 40.0) == {}
        both = TOM.replace(tools=(Gate(on=True, range_db=18.0), tucked))
        assert way_of(both) == "gate"
        assert deeper(both, 40.0) == {f"mics.{TOM.id}.tools.gate.range_db": 40.0}
