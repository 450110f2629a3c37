"""Own hits against others' hits in a mic, and the gate that follows."""

import numpy as np

from arkund.core.clean.measure import Separation, separation
from arkund.core.clean.propose import propose, start_settings, wants_gate
from arkund.core.plan.plan import MicPlan
from arkund.core.tools.gate import Gate

RATE = 48_000


class TestSeparation:
    """Own against others, and the proposed threshold."""

    def test_tom_against_bleed(self, straight):
        """In a tom's mic its own hits stand above the snare's by the generator's margin."""
        mic = straight.plan.mic("T1")
        found = separation(straight.readers["T1"].read, mic, straight.hits, start_settings(mic), RATE)
        assert len(found.own_db) == len(straight.truth["tom1"])
        assert np.median(found.own_db) > np.median(found.others_db["snare"]) + 6.0
        assert "tom1" not in found.others_db

    def test_wide_margin_gets_a_gate_between(self):
        """The threshold lies between the two, and both distances are said."""
        mic = MicPlan(id="t", name="T", piece="tom1", role="close")
        found = Separation("t", (-10.0, -12.0, -11.0), {"snare": (-30.0, -32.0)})
        note = propose(mic, start_settings(mic), found)
        threshold = note.changes["mics.t.tools"][0]["threshold_db"]
        assert found.loudest_other_db < threshold < found.softest_own_db
        assert f"{found.margin_db:.1f} dB" in note.evidence

    def test_thin_margin_is_said(self):
        """Where a threshold cannot tell, none is proposed."""
        mic = MicPlan(id="s", name="S", piece="snare", role="top")
        note = propose(mic, start_settings(mic), Separation("s", (-10.0, -34.0), {"kick": (-28.0,)}))
        assert note.changes == {}
        assert "cannot tell" in note.title

    def test_cymbals_are_left_open(self):
        """Overheads live from the whole kit."""
        assert not wants_gate(MicPlan(id="o", name="o", piece="kit", role="overhead"))
        assert propose(MicPlan(id="t", name="T", piece="tom1", role="close"), Gate(), Separation("t", (), {})) is None
