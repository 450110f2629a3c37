"""Mono strips added up in stereo."""

import numpy as np
import pytest

from arkund.core.dsp.bank import interleaved
from arkund.core.render.graph import Feed, pan_gains
from arkund.core.render.sums import MOST_SUMS, alike, place, placed

RNG = np.random.default_rng(17)


class TestPlace:
    """Against sums by hand in double precision."""

    @pytest.mark.parametrize("count", [1, 3, 16, 19])
    @pytest.mark.parametrize("late", [(0, 0, 0), (-700, 40, 1999), (2500, -3000, 7)])
    def test_several_sums(self, count, late):
        """Each gets what overlaps with it, and keeps what it had elsewhere; what is not anew is added to."""
        length, sizes = 2003, (2003, 1500, 900)
        rows = [RNG.standard_normal(length).astype(np.float32) for _ in range(count)]
        gains = RNG.uniform(-1, 1, (3, count, 2)).astype(np.float32)
        outs = [RNG.standard_normal((2, size)).astype(np.float32) for size in sizes]
        anew, wanted = (True, False, True), [out.astype(float) for out in outs]
        for out, begin, theirs, fresh in zip(wanted, late, gains, anew, strict=True):
            for at in range(max(begin, 0), min(length, begin + out.shape[1])):
                total = sum(row[at] * gain.astype(float) for row, gain in zip(rows, theirs, strict=True))
                out[:, at - begin] = total if fresh else out[:, at - begin] + total
        place(rows, gains.tolist(), outs, late, anew)
        assert max(np.abs(out - want).max() for out, want in zip(outs, wanted, strict=True)) < 1e-5

    def test_an_opposite_leaves_nothing(self):
        """A signal and its opposite at the same gains are silence, to the last bit."""
        x = RNG.standard_normal(1003).astype(np.float32)
        gains = [(0.37, 0.81)] * 2
        assert not placed([x, -x], gains, x.size).any()

    def test_nothing(self):
        """No signals are silence."""
        assert not placed([], [], 50).any()


class TestPanGains:
    """Equal power."""

    @pytest.mark.parametrize("pan", [-1.0, -0.3, 0.0, 0.6, 1.0])
    def test_power(self, pan):
        """Both sides together are as loud everywhere."""
        left, right = pan_gains(pan)
        assert left**2 + right**2 == pytest.approx(1.0)
        assert (right > left) == (pan > 0)


class TestAlike:
    """Which sums are made together."""

    def test_those_of_the_same_strips(self):
        """A few at most; those that share little stand apart."""
        feeds = [
            [Feed(name, 1.0, 1.0) for name in names]
            for names in ("abcdef", "abcde", "xy", "abcdef", "ab", "abcde", "xyz")
        ]
        made = alike(feeds)
        assert sorted(k for some in made for k in some) == list(range(7))
        assert max(map(len, made)) <= MOST_SUMS
        assert any(set(some) >= {2, 6} for some in made)
        assert not any(2 in some and 0 in some for some in made)


def test_interleaved():
    """Left and right in turn."""
    both = RNG.standard_normal((2, 101)).astype(np.float32)
    assert np.array_equal(interleaved(both), both.T)
