"""Templates: what they carry, what they leave, and that nothing is on."""

import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.plan.template import changes_of, template_of
from arkund.core.rig import usual

MICS = (
    ("kick", "in", ""),
    ("snare", "top", ""),
    ("tom1", "close", ""),
    ("kit", "overhead", "L"),
    ("kit", "overhead", "R"),
)


def plan_of(rows, prefix="m"):
    return Plan(
        kit=usual.kit(),
        paths=(usual.punch(mute=True),),
        mics=tuple(
            MicPlan(id=f"{prefix}{k}", name=f"{p} {r} {s}", piece=p, role=r, side=s, tools=usual.mic_row())
            for k, (p, r, s) in enumerate(rows)
        ),
    )


@pytest.fixture
def template():
    changes = {
        "mics.m0.tools.gate.on": True,
        "mics.m0.tools.gate.threshold_db": -31.0,
        "mics.m1.tools.tone.on": True,
        "mics.m1.tools.tone.bands": [{"kind": "bell", "frequency_hz": 900.0, "gain_db": 3.0, "q": 1.0}],
        "mics.m2.tools.compressor.ratio": 6.0,
        "mics.m3.pan": -0.8,
        "mics.m4.pan": 0.8,
        "mics.m0.mute": True,
        "mics.m0.trim_db": 5.0,
        "kit.tools.limiter.on": True,
        "paths.punch.mute": False,
        "paths.punch.level_db": -9.0,
        "alignment.school": "polarity",
    }
    return template_of(change.put(plan_of(MICS), changes))


class TestChanges:
    """A new session that starts from it."""

    def test_by_kind_of_mic(self, template):
        """In another order, under other ids; a second tom gets the first one's; an unknown mic stays."""
        rows = [
            ("kit", "overhead", "R"),
            ("floor", "close", ""),
            ("snare", "top", ""),
            ("kick", "in", ""),
            ("ride", "spot", ""),
        ]
        plan = change.put(plan_of(rows, "x"), changes_of(plan_of(rows, "x"), template))
        assert plan.mic("x3").first("gate").threshold_db == -31.0
        assert plan.mic("x2").first("tone").bands[0].gain_db == 3.0
        assert plan.mic("x1").first("compressor").ratio == 6.0
        assert plan.mic("x0").pan == 0.8
        assert plan.mic("x4") == plan_of(rows, "x").mic("x4")
        assert (plan.paths[0].level_db, plan.alignment.school) == (-9.0, "polarity")

    def test_loaded_but_bypassed(self, template):
        """Nothing is on, muted or limited; what belongs to a recording is not carried."""
        plan = change.put(plan_of(MICS), changes_of(plan_of(MICS), template))
        for mic in plan.mics:
            assert [tool.kind for tool in mic.tools] == ["gate", "tone", "shaper", "compressor"]
            assert not any(tool.on for tool in mic.tools)
            assert not mic.mute
            assert mic.trim_db == 0.0
        assert plan.paths[0].mute
        assert plan.paths[0].tools[0].on  # heard again, the path does what it is there for
        assert [tool.on for tool in plan.kit.tools] == [False, False]

    @pytest.mark.parametrize("data", [{}, {"mics": []}, {"mics": {"kick in": {"gate": {"threshold_db": 900}}}}, []])
    def test_what_is_none(self, data):
        """Is refused."""
        with pytest.raises(SettingsError):
            changes_of(plan_of(MICS), data)
