"""The kits that a card compares with."""

import pytest

from arkund.core.card.raw import balanced_plan, raw_plan
from tests.kits import small_kit


def test_pairs_are_balanced():
    """By what their trims differ by, and nothing else is trimmed."""
    kit = small_kit(seed=95_200, style="straight", bpm=120.0, bars=1)
    trims_db = {"OH L": -7.0, "OH R": 1.0, "Snr btm": 11.0}
    sides = {"OH L": "L", "OH R": "R"}
    plan = kit.plan
    plan = plan.replace(
        mics=tuple(m.replace(trim_db=trims_db.get(m.id, 0.0), side=sides.get(m.id, "")) for m in plan.mics)
    )
    assert {mic.trim_db for mic in raw_plan(plan).mics} == {0.0}
    balanced = {mic.id: mic.trim_db for mic in balanced_plan(plan).mics}
    assert (balanced.pop("OH L"), balanced.pop("OH R")) == (pytest.approx(-4.0), pytest.approx(4.0))
    assert set(balanced.values()) == {0.0}
