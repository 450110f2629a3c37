"""Long lists of a Move kept as the part in which they differ: what comes back is what was there, whatever was changed."""

import json
from itertools import pairwise

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan import change, difference
from arkund.core.plan.plan import Cut, MicPlan, Plan


def plan_of(cuts: list[dict]) -> Plan:
    return Plan(cuts=tuple(Cut.from_json(each) for each in cuts))


def edited(rng: np.random.Generator, cuts: list[dict]) -> list[dict]:
    """Return a list with some of it changed, removed and added at one place."""
    at, gone, new = (int(rng.integers(0, high)) for high in (len(cuts) + 1, 6, 6))
    low = cuts[at - 1]["at"] if at else -1
    added = [Cut(at=low + 1 + k, shift=int(rng.integers(-9, 9))).to_json() for k in range(new)]
    rest = [cut for cut in cuts[at + gone :] if cut["at"] > low + new]
    return [*cuts[:at], *added, *rest]


class TestPacked:
    """Packed, and whole again."""

    @pytest.mark.parametrize("seed", range(12))
    def test_back_and_forth(self, seed):
        """Undone and done again through a row of edits, each on the Plan that it was made on."""
        rng = np.random.default_rng(seed)
        rows = [[Cut(at=100 * (k + 1), shift=k).to_json() for k in range(int(rng.integers(0, 400)))]]
        for _ in range(8):
            rows.append(edited(rng, rows[-1]))
        for old, new in pairwise(rows):
            before, after = difference.packed({"cuts": old}, {"cuts": new})
            forth = change.put(plan_of(old), difference.unpacked(plan_of(old), after))
            assert forth == plan_of(new)
            assert change.put(forth, difference.unpacked(forth, before)) == plan_of(old)

    def test_how_much_is_kept(self):
        """One of five thousand takes no more than a few times its own size."""
        old = [Cut(at=100 * (k + 1), shift=k).to_json() for k in range(5000)]
        new = [*old[:2500], old[2500] | {"shift": -7}, *old[2501:]]
        kept = json.dumps(difference.packed({"cuts": old}, {"cuts": new}))
        assert len(kept) < 10 * len(json.dumps(old[0]))

    def test_deep_in_a_row_of_tools(self):
        """A row written as a whole keeps of its regions what differs; one with another tool in it is kept as it is."""
        spans = [[1000 * k, 1000 * k + 500] for k in range(300)]
        row = lambda edge, *more: [
            {"kind": "gate", "id": "gate"},
            {"kind": "regions", "id": "regions", "spans": [[0, edge], *spans[1:]]},
            *more,
        ]
        plan_with = lambda tools: change.put(Plan(mics=(MicPlan(id="sn", name="SN"),)), {"mics.sn.tools": tools})
        plain = lambda plan: change.get(plan, "mics.sn.tools")
        one, two = plan_with(row(400)), plan_with(row(450))
        three = plan_with(row(450, {"kind": "shaper", "id": "shaper"}))
        for old, new, most in ((one, two, 3000), (two, three, 40_000)):
            before, after = difference.packed({"mics.sn.tools": plain(old)}, {"mics.sn.tools": plain(new)})
            assert len(json.dumps([before, after])) < most
            assert difference.stands(plain(new), after["mics.sn.tools"])
            assert not difference.stands(plain(old), after["mics.sn.tools"])
            assert change.put(old, difference.unpacked(old, after)) == new
            assert change.put(new, difference.unpacked(new, before)) == old

    @pytest.mark.parametrize(
        ("now", "stands"),
        [
            ([{"id": "gate", "on": False}, {"id": "tone", "on": True}], True),  # another tool was set since
            ([{"id": "tone", "on": True}, {"id": "gate", "on": False}], True),  # and the row is in another order
            ([{"id": "gate", "on": True}, {"id": "tone", "on": False}], False),
            ([{"id": "tone", "on": False}], False),
            ([{"id": "gate", "on": False}, {"id": "tone", "on": False}, {"id": "grit", "on": True}], False),
        ],
    )
    def test_what_a_move_changed_of_a_row(self, now, stands):
        """It turned the gate off and took the grit out; the tone it left alone."""
        before = [{"id": "gate", "on": True}, {"id": "tone", "on": False}, {"id": "grit", "on": True}]
        after = [{"id": "gate", "on": False}, {"id": "tone", "on": False}]
        assert difference.still_stands(now, before, after) == stands

    def test_short_ones_and_no_lists_stay(self):
        """They are read as they are."""
        values = {"tempo.bpm": 99.0, "cuts": [], "take": "t"}
        assert difference.packed(values, values) == (values, values)

    @pytest.mark.parametrize("part", [[0, [], 4], [9, [], 10], [-1, [], 10], ["a", [], 10], [0, [1] * 11, 10], None])
    def test_what_does_not_fit(self, part):
        """Is refused, and named."""
        with pytest.raises(SettingsError, match="cuts: the part"):
            difference.unpacked(Plan(), {"cuts": {difference.PART: part}})
