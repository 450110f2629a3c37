"""What a tool is said to do is what it does."""

import numpy as np
import pytest

from arkund.core.rig.measure import effect
from arkund.core.tools import compressor, grit, limiter
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.grit import SHAPES, Grit
from arkund.core.tools.limiter import Limiter
from tests.stages import RATE, through


def strokes(levels_db) -> tuple[np.ndarray, list[int]]:
    """Return a second a stroke, each a burst of its level, over a soft floor."""
    x = np.full(len(levels_db) * RATE, 1e-4)
    at = [k * RATE + 4800 for k in range(len(levels_db))]
    for level, start in zip(levels_db, at, strict=True):
        x[start : start + 4800] = 10 ** (level / 20)
    return x, at


class TestEffect:
    """Levels at hits, between them, and stroke by stroke."""

    def test_known_gains(self):
        """Hits lowered by 6 dB, all else by 20."""
        x, at = strokes([-10.0, -20.0, -30.0])
        after = np.where(x > 1e-3, x * 10**-0.3, x * 0.1)
        found = effect(x, after, at, RATE)
        assert (found.hits_db, found.between_db) == (-6.0, -20.0)
        assert found.strokes == ((-10.0, -16.0), (-20.0, -26.0), (-30.0, -36.0))

    def test_silence_and_many(self):
        """Nothing is said of silence; of hundreds of strokes some stand for all, the first and the last among them."""
        assert effect(np.zeros(RATE), np.zeros(RATE), [100], RATE).hits_db is None
        x, at = strokes(np.linspace(-40.0, -4.0, 200))
        found = effect(x, x, at, RATE).strokes
        assert len(found) == 60
        assert (found[0][0], found[-1][0]) == (-40.0, -4.0)
        assert effect(x, x, [], RATE).strokes == ()


class TestCurves:
    """The curve that is drawn, against a tone that stands still."""

    @pytest.mark.parametrize("level_db", [-40.0, -18.0, -3.0])
    def test_compressor(self, level_db):
        """With make-up and a share of the dry sound, within 0.2 dB of what a square wave becomes."""
        mine = Compressor(on=True, threshold_db=-24.0, ratio=4.0, makeup_db=3.0, share=0.7, attack_ms=1.0)
        square = np.where(np.arange(RATE) // 240 % 2, 1.0, -1.0).astype(np.float32) * np.float32(10 ** (level_db / 20))
        out = 20 * np.log10(np.abs(through(mine, square)[-480:]).max())
        assert compressor.transfer_db(mine, np.array([level_db]))[0] == pytest.approx(out, abs=0.2)

    @pytest.mark.parametrize("shape", [shape for shape in SHAPES if shape != "tape"])
    def test_grit(self, shape):
        """The peak of a low sine, within 0.1 dB; of the lopsided one without the DC that is taken off."""
        levels = np.array([-40.0, -12.0, 0.0])
        for level, wanted in zip(
            levels, grit.transfer_db(Grit(on=True, shape=shape, drive_db=12.0), levels), strict=True
        ):
            sine = (10 ** (level / 20) * np.sin(2 * np.pi * 100 * np.arange(RATE) / RATE)).astype(np.float32)
            out = through(Grit(on=True, shape=shape, drive_db=12.0), sine)[-9600:]
            if shape != "lopsided":
                assert 20 * np.log10(np.abs(out).max()) == pytest.approx(wanted, abs=0.1)
            else:
                assert np.ptp(out) / 2 <= 10 ** (wanted / 20) + 1e-3

    def test_limiter(self):
        """A gain below the ceiling, the ceiling above it."""
        mine = Limiter(on=True, input_db=6.0, ceiling_db=-2.0)
        assert limiter.transfer_db(mine, np.array([-20.0, -3.0])) == pytest.approx([-14.0, -2.0])
