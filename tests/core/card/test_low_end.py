"""What lets the strips of a low end add up."""

import numpy as np
import pytest

from arkund.core.card.raw import raw_plan
from arkund.core.dsp import filters
from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.replace.low_end import low_end, turned_over_db
from arkund.core.tone.owner import turned

RATE = 48_000
HITS = [0.1 + 0.5 * k for k in range(6)]
PLAN = Plan(take="t", mics=tuple(MicPlan(id=role, name=role, piece="kick", role=role) for role in ("in", "sub")))


def kick() -> np.ndarray:
    x, t = np.zeros(4 * RATE, np.float32), np.arange(RATE // 4) / RATE
    for at in HITS:
        x[round(at * RATE) :][: t.size] += (np.sin(2 * np.pi * 66 * t) * np.exp(-t / 0.06)).astype(np.float32)
    return x


class TestTurnedOver:
    """A low-pass of 24 dB/octave turns what lies below it."""

    def test_a_steep_low_pass(self):
        """At 85 Hz it turns 66 Hz by more than a quarter of a period: over, the sum is larger; the note turns the sub over, and only it."""
        x = kick()
        sub = filter_bank(bank_of([x]), [filters.low_pass(85.0, 4, RATE)])[:, 0]
        strips = {"in": x, "sub": sub}
        gain = turned_over_db(strips, "sub", HITS, RATE)
        assert gain > 1.0
        was, now = (low_end(some, HITS, RATE).sum_main_db for some in (strips, {"in": x, "sub": -sub}))
        assert now - was == pytest.approx(gain, abs=1e-6)
        (note,) = turned(PLAN, {"sub": gain})
        assert change.put(PLAN, dict(note.changes)).mic("sub").line_up.turned

    def test_where_all_is_well(self):
        """In polarity nothing is turned; a strip that is not there gains nothing."""
        x = kick()
        gain = turned_over_db({"in": x, "sub": 0.8 * x}, "sub", HITS, RATE)
        assert gain < -10.0
        assert turned(PLAN, {"sub": gain}) == []
        assert turned_over_db({"in": x}, "sub", HITS, RATE) == 0.0

    def test_the_raw_kit_stays_as_it_was(self):
        """What is turned over for its filters' sake is not, where there are none: the raw kit is the one that was lined up."""
        (note,) = turned(PLAN, {"sub": 3.0})
        plan = change.put(PLAN, dict(note.changes))
        assert plan.mic("sub").line_up.sign == -1.0
        assert raw_plan(plan) == raw_plan(PLAN)
        assert change.put(plan, {"mics.sub.line_up.inverted": True}).mic("sub").line_up.sign == 1.0
