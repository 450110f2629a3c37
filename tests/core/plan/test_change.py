"""Changes of a Plan by paths."""

import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.plan.plan import Capture, MicPlan, Plan, Tempo
from arkund.core.replace.sampled import Sampled, Shot
from arkund.core.rig import usual


@pytest.fixture
def plan() -> Plan:
    mics = (
        MicPlan(id="sn", name="SN", piece="snare", role="top", tools=usual.mic_row()),
        MicPlan(id="kd", name="KD", piece="kick", role="in"),
    )
    return Plan(take="t", mics=mics, kit=usual.kit())


class TestPut:
    """What is changed, what is not, and what is refused."""

    def test_as_building_it_anew(self, plan):
        """The same Plan as from whole plain data, whatever the depth of a path."""
        changes = {
            "mics.sn.tools.gate.threshold_db": -31.0,
            "mics.1.trim_db": 2,
            "kit.tools.compressor.ratio": 3.0,
            "tempo": Tempo(bpm=91.0).to_json(),
        }
        data = plan.to_json()
        data["mics"][0]["tools"][0]["threshold_db"] = -31.0
        data["mics"][1]["trim_db"] = 2
        data["kit"]["tools"][0]["ratio"] = 3.0
        data["tempo"]["bpm"] = 91.0
        assert change.put(plan, changes) == Plan.from_json(data)
        assert change.put(plan, changes).mic("kd").trim_db == 2.0

    def test_what_is_not_touched_is_the_very_same(self, plan):
        """Other mics and other parts are not built again."""
        new = change.put(plan, {"mics.sn.trim_db": -1.0})
        assert new.mics[1] is plan.mics[1]
        assert new.mics[0].tools is plan.mics[0].tools
        assert new.kit is plan.kit

    def test_together(self, plan):
        """A layer and the capture that it needs, in any order."""
        capture = Capture(id="c", piece="snare", take="t", at=5, before=1, length=9, level_db=-6.0)
        sound = Sampled(of="sn", shots=(Shot(capture="c"),), strikes=((5, 0.0),))
        layer = MicPlan(id="under", name="Under", piece="snare", role="layer", sampled=sound)
        mics = [mic.to_json() for mic in (*plan.mics, layer)]
        new = change.put(plan, {"mics": mics, "captures": [capture.to_json()]})
        assert new.mic("under") == layer
        assert change.put(new, {"mics.under.sampled.strikes.0": [7, -1.0]}).mic("under").strikes == ((7, -1.0),)

    @pytest.mark.parametrize(
        ("changes", "words"),
        [
            ({"mics.xx.trim_db": 1.0}, "no 'xx' here; there are sn, kd"),
            ({"mics.sn.colour": 1.0}, "unknown key 'colour'"),
            ({"mics.sn.trim_db.x": 1.0}, "none below"),
            ({"nothing": 1.0}, "unknown key 'nothing'"),
            ({"mics.sn.trim_db": 99.0}, "outside -40 to 40 dB"),
            ({"mics.sn.trim_db": "loud"}, "expected a number"),
            ({"mics.sn.tools.gate.on": 1}, "expected bool"),
            ({"mics.sn.id": "kd"}, "'kd' stands there twice"),
            ({"placements": [{"capture": "none"}]}, "not one of the shelf's hits"),
            ({"tempo": {}, "tempo.bpm": 90.0}, "a value above it is changed too"),
            ({"tempo.bpm": 90.0, "tempo": {}}, "a value below it is changed too"),
        ],
    )
    def test_refused(self, plan, changes, words):
        """The path and what is known there."""
        with pytest.raises(SettingsError, match=words):
            change.put(plan, changes)
