"""What is heard before a span is enough, and not more than that."""

import numpy as np
import pytest

from arkund.core.dsp.filters import bell
from arkund.core.dsp.reach import NOTHING, Reach, of_cascades, of_follower

RATE = 48_000


def wrong_db(constants_s: list[float], seconds: float) -> float:
    """Followers in a row, each 20 dB wrong at first and each of its input's mistakes on top of its own, sample by sample at 2 kHz."""
    rate = 2000
    shares = [1.0 - np.exp(-1.0 / (each * rate)) for each in constants_s]
    states = [0.0] * len(constants_s)
    out = 0.0
    for i in range(int(seconds * rate)):
        out = 0.0
        for k, share in enumerate(shares):
            states[k] += share * (out - states[k])
            out += states[k] + 20.0 * (1.0 - share) ** (i + 1)
    return out


class TestBefore:
    """How many samples before a span are heard."""

    @pytest.mark.parametrize("time_ms", [5.0, 120.0])
    def test_one_of_follower(self, time_ms):
        """A difference of 20 dB has just shrunk to 0.0002 dB."""
        n = of_follower(time_ms, RATE).before
        assert 1.9e-4 < 20.0 * np.exp(-1000.0 * n / (time_ms * RATE)) < 2.1e-4

    @pytest.mark.parametrize(
        "constants_s", [(0.22, 0.18, 0.25), (0.4, 0.18, 0.05, 0.06, 0.12), (0.3, 0.3), (0.02, 0.9)]
    )
    def test_a_row_of_followers(self, constants_s):
        """Enough for all together by stepping through it, and a good deal less than one after the other."""
        together = sum((of_follower(1000 * each, RATE) for each in constants_s), NOTHING)
        alone = sum(of_follower(1000 * each, RATE).before for each in constants_s)
        assert max(of_follower(1000 * each, RATE).before for each in constants_s) <= together.before < alone
        assert wrong_db(constants_s, together.before / RATE) < 2.5e-4
        assert wrong_db(constants_s, 0.9 * together.before / RATE) > 2.5e-4

    def test_filters_and_holds_add_up(self):
        """What forgets after a number of samples needs them on top."""
        section = bell(100.0, 6.0, 2.0, RATE)
        key = of_cascades([(section,), (section, section)])
        assert key == Reach(exact=2 * section.settle_samples())
        both = key + Reach(480, after=48) + of_follower(10.0, RATE)
        assert both.before == key.exact + 480 + of_follower(10.0, RATE).before
        assert both.after == 48
