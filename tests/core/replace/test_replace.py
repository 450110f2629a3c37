"""Hits in the place of others: in time and in polarity where they are put."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import Capture, Placement
from arkund.core.replace.process import captured, with_placements

RATE = 48_000


def pulse_train(times_s, levels, seconds=4.0) -> ArrayMic:
    out = np.zeros(int(seconds * RATE), np.float32)
    t = np.arange(4800) / RATE
    shape = np.sin(2 * np.pi * 200 * t) * np.exp(-t / 0.02)
    for at, level in zip(times_s, levels, strict=True):
        out[int(at * RATE) : int(at * RATE) + 4800] += level * shape
    return ArrayMic(out)


CAPTURE = Capture(id="c", piece="snare", take="t", at=RATE, before=100, length=6000, level_db=-6.0)


class TestPlacements:
    """One hit instead of another."""

    def test_stands_where_the_other_was(self):
        """After placing, the weak hit looks like the captured one, to the sample."""
        mic = pulse_train([1.0, 2.0], [0.8, 0.1])
        read = with_placements(
            mic.read, (Placement(capture="c", at=2 * RATE, length=6000),), {"c": CAPTURE}, {"c": mic.read}, RATE
        )
        out = read(0, mic.length)
        assert np.allclose(out[2 * RATE : 2 * RATE + 4000], mic.read(RATE, RATE + 4000), atol=1e-6)
        assert np.array_equal(out[: 2 * RATE - 200], mic.read(0, 2 * RATE - 200))

    def test_gain(self):
        """Raised or lowered to fit."""
        mic = pulse_train([1.0, 2.0], [0.8, 0.1])
        place = Placement(capture="c", at=2 * RATE, length=6000, gain_db=-20.0)
        out = with_placements(mic.read, (place,), {"c": CAPTURE}, {"c": mic.read}, RATE)(2 * RATE, 2 * RATE + 4000)
        assert np.allclose(out, 0.1 * mic.read(RATE, RATE + 4000), atol=1e-6)

    @pytest.mark.parametrize("start", [0, 95_000, 96_010, 99_000])
    def test_any_span(self, start):
        """A span read by itself is the same."""
        mic = pulse_train([1.0, 2.0], [0.8, 0.1])
        read = with_placements(
            mic.read, (Placement(capture="c", at=2 * RATE, length=6000),), {"c": CAPTURE}, {"c": mic.read}, RATE
        )
        assert np.array_equal(read(start, start + 3000), read(0, mic.length)[start : start + 3000])


class TestCaptured:
    """A hit as it is taken."""

    def test_captured_ends_are_soft(self):
        """No step at either end."""
        mic = ArrayMic(np.ones(4 * RATE, np.float32))
        sound = captured(mic.read, CAPTURE, RATE)
        assert sound.size == 6100
        assert sound[0] == 0.0
        assert abs(sound[-1]) < 1e-6
        assert sound[3000] == 1.0
