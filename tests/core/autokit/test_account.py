"""The account's words: what was wrong, whose a deed is, and what nothing was done to."""

import pytest

from arkund.core.autokit.account import MOST_FAULTS, faults, left_alone, whose
from arkund.core.plan import change
from arkund.core.plan.plan import LineUp, MicPlan, Plan

MICS = (
    MicPlan(id="kd-in", name="KD in", piece="kick", role="in"),
    MicPlan(id="kd-out", name="KD out", piece="kick", role="out", line_up=LineUp(delay_ms=-1.2)),
    MicPlan(id="sn", name="SN", piece="snare", role="top"),
    MicPlan(id="btm", name="Btm", piece="snare", role="bottom", trim_db=10.9, line_up=LineUp(inverted=True)),
    MicPlan(id="t1", name="T1", piece="tom1", role="close", trim_db=-7.0),
    MicPlan(id="oh", name="OH", role="overhead"),
)
PLAN = Plan(take="t", mics=MICS)
EVEN = {"bleed_toms": -30.0, "kick": 0.0, "toms": -1.0, "bleed": -21.0}


class TestFaults:
    """In five lines at most."""

    def test_what_was_set_right(self):
        """Polarity and arrival, levels, bleed, balance: each in a line with its values; names and files before all."""
        raw = EVEN | {"bleed_toms": -6.2, "toms": 5.8, "kick": -3.2}
        assert faults(PLAN, raw, ["named the wrong way round: A and B"]) == [
            "Named the wrong way round: A and B",
            "Opposite polarity: Btm; late against its drum's other mic: KD out 1.2 ms",
            "Recorded quietly: Btm 10.9 dB under the window; hot: T1 7.0 dB over it",
            "Tom mics hear the other drums only 6 dB under their own hits",
            "With all mics up: toms against snare 5.8 dB (wanted −3 to 1)",
        ]

    def test_a_good_recording(self):
        """Nothing wrong, nothing said; what hardly counts is not said either."""
        mics = tuple(mic.replace(trim_db=2.0, line_up=LineUp(delay_ms=-0.1)) for mic in MICS)
        assert faults(PLAN.replace(mics=mics), EVEN | {"toms": 1.3}) == []
        assert faults(PLAN.replace(mics=mics), dict.fromkeys(EVEN)) == []

    @pytest.mark.parametrize("count", [5, 40])
    def test_however_much_is_wrong(self, count):
        """A long row of names is cut short."""
        mics = tuple(MicPlan(id=f"m{k}", name=f"M{k}", line_up=LineUp(inverted=True)) for k in range(count))
        lines = faults(PLAN.replace(mics=mics), EVEN | {"toms": 9.0}, ["names", "files"])
        assert len(lines) <= MOST_FAULTS
        assert ("and 36 more" in lines[1]) == (count == 40)


class TestWhose:
    """The drum that a deed belongs to."""

    @pytest.mark.parametrize(
        ("paths", "said"),
        [
            (["mics.kd-in.level_db"], "kick"),
            (["mics.sn.tools", "mics.btm.trim_db"], "snare"),
            (["mics.oh.trim_db"], "overheads"),
            (["groups.kick.tools"], "kick"),
            (["groups.cymbals.level_db"], "hats and cymbals"),
            (["paths.sustain.level_db"], "parallel paths"),
            (["mics.kd-in.level_db", "mics.sn.level_db"], "whole kit"),
            (["kit.tools"], "whole kit"),
            (["mics.gone.level_db"], "whole kit"),
        ],
    )
    def test_by_paths(self, paths, said):
        """One drum where all are its, else the whole kit."""
        assert whose(PLAN, paths) == said


class TestLeftAlone:
    """What nothing was done to."""

    def test_said_with_its_reason(self):
        """Open shell mics with their bleed, mics with a high-pass alone, groups without tools, hits as played."""
        high_pass = {"kind": "tone", "id": "tone", "bands": [{"kind": "high_pass", "frequency_hz": 40.0}]}
        bell = {"kind": "tone", "id": "tone", "bands": [{"kind": "bell", "frequency_hz": 400.0, "gain_db": -3.0}]}
        gate = {"kind": "gate", "id": "gate", "on": True}
        plan = change.put(
            PLAN,
            {
                "mics.kd-in.tools": [high_pass],
                "mics.sn.tools": [bell],
                "mics.t1.tools": [gate, bell],
                "groups.kick.tools": [{"kind": "shaper", "id": "shape", "on": True, "attack_db": 2.0}],
            },
        )
        lines = left_alone(plan, EVEN)
        assert lines[0] == "No gate on KD in, KD out, SN and Btm: others' hits lie 21 dB under their own."
        assert lines[1] == "No filter but a high-pass on KD in, KD out, Btm and OH: no ring or box was measured."
        assert "snare" in lines[2]
        assert "kick" not in lines[2]
        assert lines[3] == "No hit was moved or replaced."
