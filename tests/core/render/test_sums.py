"""Mono strips added up in stereo."""

import numpy as np
import pytest

from arkund.core.render.sums import MOST_SUMS, pan_gains, place, placed

RNG = np.random.default_rng(17)


class TestPlace:
    """Against sums by hand in double precision."""

    @pytest.mark.parametrize("count", [1, 3, 16, 19])
    @pytest.mark.parametrize("late", [(0, 0, 0), (-700, 40, 1999), (2500, -3000, 7)])
    def test_several_sums(self, count, late):
        """Each gets what overlaps with it, and keeps what it had elsewhere."""
        length, sizes = 2003, (2003, 1500, 900)
        rows = [RNG.standard_normal(length).astype(np.float32) for _ in range(count)]
        gains = RNG.uniform(-1, 1, (MOST_SUMS, count, 2)).astype(np.float32)
        outs = [RNG.standard_normal((size, 2)).astype(np.float32) for size in sizes]
        wanted = [out.astype(float) for out in outs]
        for out, begin, theirs in zip(wanted, late, gains, strict=True):
            for at in range(max(begin, 0), min(length, begin + len(out))):
                out[at - begin] = sum(row[at] * gain.astype(float) for row, gain in zip(rows, theirs, strict=True))
        place(rows, gains, outs, late)
        assert max(np.abs(out - want).max() for out, want in zip(outs, wanted, strict=True)) < 1e-5

    def test_an_opposite_leaves_nothing(self):
        """A signal and its opposite at the same gains are silence, to the last bit."""
        x = RNG.standard_normal(1003).astype(np.float32)
        gains = np.array([[0.37, 0.81]] * 2, np.float32)
        assert not placed([x, -x], gains, x.size).any()

    def test_nothing(self):
        """No signals are silence."""
        assert not placed([], np.zeros((0, 2), np.float32), 50).any()


class TestPanGains:
    """Equal power."""

    @pytest.mark.parametrize("pan", [-1.0, -0.3, 0.0, 0.6, 1.0])
    def test_power(self, pan):
        """Both sides together are as loud everywhere."""
        left, right = pan_gains(pan)
        assert left**2 + right**2 == pytest.approx(1.0)
        assert (right > left) == (pan > 0)
