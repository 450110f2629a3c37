"""Every figure that can miss its target has a sentence on what mends it, in the way in which it misses."""

import pytest

from arkund.core.card.help import HELP, help_of
from arkund.core.card.targets import FIGURES, INF, TARGETS
from arkund.studio.steps import STEPS


@pytest.mark.parametrize("school", list(TARGETS))
@pytest.mark.parametrize("key", [figure.key for figure in FIGURES])
def test_each_way(school, key):
    """Below a lower end and above an upper one; nothing within, and nothing of what is not known."""
    low, high = TARGETS[school][key]
    for end, value in ((low, low - 1.0), (high, high + 1.0)):
        if abs(end) == INF or (key == "balance" and end == low):  # which is never below 0
            continue
        words, step = help_of(key, value, (low, high))
        assert words.endswith(".")
        assert step in STEPS
    assert help_of(key, max(low, -100.0) if low != -INF else high, (low, high)) is None
    assert help_of(key, None, (low, high)) is None


def test_no_help_for_nothing():
    """Each belongs to a figure."""
    assert set(HELP) == {figure.key for figure in FIGURES}
