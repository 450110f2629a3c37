"""Captured hits: clean and typical, in time and in polarity where they are put."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.hits.resolve import Hit
from arkund.core.plan.plan import Capture, Layer, Placement
from arkund.core.replace.measure import strikes, typical_hit
from arkund.core.replace.process import captured, with_layers, with_placements

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


class TestLayers:
    """Under all hits, with their strength or without."""

    @pytest.mark.parametrize(("follow", "second"), [(1.0, 0.25), (0.0, 1.0)])
    def test_adds_in_step(self, follow, second):
        """A layer at 0 dB doubles the captured hit, and follows the other's strength by choice."""
        mic = pulse_train([1.0, 2.0], [0.8, 0.2])
        layer = Layer(capture="c", level_db=0.0, follow=follow, strikes=((RATE, 0.0), (2 * RATE, -12.0412)))
        out = with_layers(mic.read, (layer,), {"c": CAPTURE}, {"c": mic.read}, RATE)(0, mic.length)
        hit = mic.read(RATE, RATE + 4000)
        assert np.allclose(out[RATE : RATE + 4000], 2 * hit, atol=1e-5)
        assert np.allclose(out[2 * RATE : 2 * RATE + 4000], (0.25 + second) * hit, atol=1e-4)

    def test_off(self):
        """A layer that is off changes nothing."""
        mic = pulse_train([1.0], [0.5])
        layer = Layer(capture="c", on=False, strikes=((RATE, 0.0),))
        assert with_layers(mic.read, (layer,), {"c": CAPTURE}, {"c": mic.read}, RATE) == mic.read

    def test_captured_ends_are_soft(self):
        """No step at either end."""
        mic = ArrayMic(np.ones(4 * RATE, np.float32))
        sound = captured(mic.read, CAPTURE, RATE)
        assert sound.size == 6100
        assert sound[0] == 0.0
        assert abs(sound[-1]) < 1e-6
        assert sound[3000] == 1.0


class TestTypicalHit:
    """Clean, alone and usual."""

    def hits(self):
        times = [1.0, 1.08, 2.0, 3.0, 3.05]
        snare = [Hit("snare", t, -6.0, 120, False) for t in times]
        return {"snare": snare, "kick": [Hit("kick", 2.9, -6.0, 120, False)]}

    def test_prefers_what_stands_alone(self, straight):
        """The hit with the most room around it."""
        found = typical_hit(straight.plan, self.hits(), "snare", RATE)
        assert found.at == 2 * RATE
        assert found.length > 0.2 * RATE

    def test_none_without_hits(self, straight):
        """Nothing to capture."""
        assert typical_hit(straight.plan, {}, "snare", RATE) is None

    def test_strikes(self, straight):
        """Every hit with its strength against the captured one."""
        found = typical_hit(straight.plan, self.hits(), "snare", RATE)
        assert len(strikes(found, self.hits(), RATE)) == 5
        assert strikes(found, self.hits(), RATE)[0] == (RATE, 0.0)
