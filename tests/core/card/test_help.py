"""Every figure that can miss its target has a sentence on what mends it, in the way in which it misses."""

import pytest

from arkund.core.card.cost import COSTS
from arkund.core.card.help import HELP, help_of
from arkund.core.card.targets import INF, TARGETS
from arkund.studio.steps import STEPS

RANGES = {
    school: targets | {cost.figure.key: cost.ranges[school] for cost in COSTS} for school, targets in TARGETS.items()
}


@pytest.mark.parametrize("school", list(RANGES))
@pytest.mark.parametrize("key", list(RANGES["punchy"]))
def test_each_way(school, key):
    """Below a lower end and above an upper one; nothing within, and nothing of what is not known."""
    low, high = RANGES[school][key]
    for end, value in ((low, low - 1.0), (high, high + 1.0)):
        if abs(end) == INF or (key == "slope" and end == low):  # which is never below 0
            continue
        words, step = help_of(key, value, (low, high))
        assert words.endswith(".")
        assert step in STEPS
    assert help_of(key, max(low, -100.0) if low != -INF else high, (low, high)) is None
    assert help_of(key, None, (low, high)) is None


def test_no_help_for_nothing():
    """Each belongs to a figure or a cost."""
    assert set(HELP) == set(RANGES["punchy"])
