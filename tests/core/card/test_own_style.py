"""A style taken from a kit: its ranges lie about what was measured, and stand in the place of the table's."""

import pytest

from arkund.core.autokit.objective import objective_of
from arkund.core.card.own_style import KEYS, OwnStyle, taken_from, targets_of
from arkund.core.card.targets import INF, TARGETS, off_by
from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Plan

VALUES = dict.fromkeys(KEYS) | {"density": -2.0, "attack_kick": 2.5, "cymbals": -9.0, "slope": 6.4, "bleed_toms": -30.0}


class TestTakenFrom:
    """What a kit measures, with a decibel to either side."""

    def test_ranges(self):
        """Open where the style's are open; what is not known keeps the style's."""
        own = taken_from("mine", "punchy", VALUES)
        targets = targets_of("punchy", own)
        assert targets["density"] == (-3.0, -1.0)
        assert targets["cymbals"] == (-10.0, -8.0)
        assert targets["bleed_toms"] == (-INF, -29.0)
        assert targets["kick"] == TARGETS["punchy"]["kick"]
        assert targets["headroom"] == TARGETS["punchy"]["headroom"]
        assert all(off_by(VALUES[each.key], each.range) == 0.0 for each in own.ranges)
        assert {each.key: each.reference for each in own.ranges} == {k: v for k, v in VALUES.items() if v is not None}

    def test_what_is_solved_for(self):
        """Its ranges, and those of the octaves by its slope; the costs stay the style's."""
        own = taken_from("mine", "punchy", VALUES)
        goals = {goal.key: goal for goal in objective_of("punchy", {}, own).goals}
        plain = {goal.key: goal for goal in objective_of("punchy", {}).goals}
        assert (goals["density"].low, goals["density"].high) == (-3.0, -1.0)
        assert goals["octave_250"].high == pytest.approx(7.4)
        assert goals["distortion"] == plain["distortion"]
        assert goals["toms"] == plain["toms"]


class TestOwnStyle:
    """As data of a Plan."""

    def test_in_a_plan(self):
        """It goes into a Plan and back; without one a Plan is as before."""
        plan = Plan(own_style=taken_from("mine", "heavy", VALUES), school="heavy")
        assert Plan.from_json(plan.to_json()) == plan
        assert Plan.from_json(Plan().to_json()).own_style is None

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            ({"name": " "}, "needs a name"),
            ({"name": "a", "ranges": [{"key": "loudness"}]}, "key"),
            ({"name": "a", "ranges": [{"key": "density", "low": 1.0, "high": 0.0}]}, "no range"),
            ({"name": "a", "ranges": [{"key": "density"}, {"key": "density"}]}, "two ranges"),
            ({"name": "a", "ranges": [{"key": "density", "low": 1e9}]}, "low"),
        ],
    )  # fmt: skip
    def test_what_cannot_be(self, data, said):
        """It is refused in words."""
        with pytest.raises(SettingsError, match=said):
            OwnStyle.from_json(data)
