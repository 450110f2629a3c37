"""One change taken back among others: what came after it stays, and what was built on it is named."""

import numpy as np
import pytest

from arkund.core.plan import change, difference
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.plan.revert import SetSinceError, reverted, set_paths

ROW = [{"kind": "gate", "id": "gate"}, {"kind": "tone", "id": "tone"}, {"kind": "shaper", "id": "shaper"}]
MORE = {"kind": "compressor", "id": "more"}


def plan_of(tools: list | None = None, **given) -> Plan:
    plan = Plan(mics=(MicPlan(id="sn", name="SN", **given), MicPlan(id="kd", name="KD")))
    return change.put(plan, {"mics.sn.tools": tools}) if tools is not None else plan


def done(plan: Plan, changes: dict) -> tuple[Plan, dict, dict]:
    """Return a Plan with changes, and the change as a Move keeps it."""
    after = change.put(plan, changes)
    pair = difference.packed(*({path: change.get(each, path) for path in changes} for each in (plan, after)))
    return after, *pair


def back(plan: Plan, before: dict, after: dict) -> Plan:
    values = reverted(plan, before, after)
    return change.put(plan, values) if values else plan


class TestReverted:
    """The Plan without one of its changes."""

    @pytest.mark.parametrize("seed", range(8))
    def test_as_if_never_done(self, seed):
        """Of a row of changes that touch nothing of each other, any one is taken back: the Plan is what the others make alone."""
        rng = np.random.default_rng(seed)
        all_of_them = [
            {"mics.sn.trim_db": -3.0},
            {"mics.sn.tools.gate.threshold_db": -31.0, "mics.kd.level_db": 2.0},
            {"mics.sn.tools.shaper.attack_db": 4.0},
            {"mics.kd.line_up.inverted": True},
            {"mics.sn.tools.tone.bands": [{"kind": "bell", "frequency_hz": 400.0, "gain_db": -3.0}]},
            {"kit.level_db": -2.0},
        ]
        order = [all_of_them[k] for k in rng.permutation(len(all_of_them))]
        one = int(rng.integers(0, len(order)))
        plan = plan_of(ROW)
        for number, changes in enumerate(order):
            plan, before, after = done(plan, changes)
            if number == one:
                mine = before, after
        alone = plan_of(ROW)
        for number, changes in enumerate(order):
            if number != one:
                alone = change.put(alone, changes)
        assert back(plan, *mine) == alone

    def test_row_written_as_a_whole(self):
        """A tool that a change put into a row goes, one that came later stays; one that a change took away comes back where it was."""
        plan, *added = done(plan_of(ROW), {"mics.sn.tools": [ROW[0], MORE, *ROW[1:]]})
        later = change.put(plan, {"mics.sn.tools.shaper.attack_db": 3.0})
        now = back(later, *added)
        assert [tool.id for tool in now.mic("sn").tools] == ["gate", "tone", "shaper"]
        assert now.mic("sn").first("shaper").attack_db == 3.0
        plan, *taken = done(plan_of(ROW), {"mics.sn.tools": [ROW[0], ROW[2]]})
        later = change.put(plan, {"mics.sn.tools": [ROW[0], ROW[2], MORE]})
        assert [tool.id for tool in back(later, *taken).mic("sn").tools] == ["gate", "tone", "shaper", "more"]

    def test_another_order(self):
        """An order is taken back though a tool was put in since; not where the row was put into a third order."""
        plan, *turned = done(plan_of(ROW), {"mics.sn.tools": ROW[::-1]})
        later = change.put(plan, {"mics.sn.tools": [ROW[2], MORE, ROW[1], ROW[0]]})
        assert [tool.id for tool in back(later, *turned).mic("sn").tools] == ["gate", "tone", "shaper", "more"]
        third = change.put(plan, {"mics.sn.tools": [ROW[1], ROW[2], ROW[0]]})
        with pytest.raises(SetSinceError, match=r"mics\.sn\.tools"):
            reverted(third, *turned)

    def test_long_lists(self):
        """Regions of which a part was changed: taken back where they stand, refused where one was dragged since."""
        spans = [[1000 * k, 1000 * k + 500] for k in range(300)]
        row = lambda edge: [{"kind": "regions", "id": "regions", "spans": [*spans[:7], [7000, edge], *spans[8:]]}]
        plan, *mine = done(plan_of(row(7500)), {"mics.sn.tools": row(7600)})
        assert change.get(back(plan, *mine), "mics.sn.tools.regions.spans") == spans
        with pytest.raises(SetSinceError, match="regions"):
            reverted(change.put(plan, {"mics.sn.tools": row(7700)}), *mine)

    @pytest.mark.parametrize(
        ("mine", "later", "path"),
        [
            ({"mics.sn.trim_db": -3.0}, {"mics.sn.trim_db": -4.0}, "mics.sn.trim_db"),
            ({"mics.sn.tools": [*ROW, MORE]}, {"mics.sn.tools.more.ratio": 3.0}, "mics.sn.tools.more"),
            ({"mics.sn.tools": [*ROW, MORE]}, {"mics.sn.tools": ROW}, "mics.sn.tools.more"),
            ({"mics.sn.tools.gate.threshold_db": -20.0}, {"mics.sn.tools": ROW[1:]}, "mics.sn.tools.gate"),
        ],
    )  # fmt: skip
    def test_built_upon(self, mine, later, path):
        """What was set otherwise since is named, and nothing is taken back."""
        plan, *pair = done(plan_of(ROW), mine)
        with pytest.raises((SetSinceError, change.SettingsError), match=path.replace(".", r"\.")):
            reverted(change.put(plan, later), *pair)

    def test_nothing_left_of_it(self):
        """What was set back since needs no change."""
        plan, *pair = done(plan_of(ROW), {"mics.sn.trim_db": -3.0})
        assert reverted(plan, *pair) == {"mics.sn.trim_db": 0.0}
        assert reverted(plan_of(ROW), *pair) == {}


class TestSetPaths:
    """What differs, down to single settings."""

    def test_of_rows(self):
        """Of a row of tools only the settings that differ are named; a tool that is new by its id."""
        before = [*ROW[:2], {"kind": "shaper", "id": "shaper", "attack_db": 0.0, "sustain_db": 1.0}]
        after = [*ROW[:2], {"kind": "shaper", "id": "shaper", "attack_db": 2.0, "sustain_db": 1.0}, MORE]
        assert list(set_paths(before, after, "x.tools")) == ["x.tools.shaper.attack_db", "x.tools.more"]
        assert list(set_paths(-1.0, 2.0, "x.trim_db")) == ["x.trim_db"]
        assert list(set_paths(2.0, 2.0, "x.trim_db")) == []
