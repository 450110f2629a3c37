"""What is added to hits: nothing by gains and filters of any kind, and of a clipper what its own residual is."""

import numpy as np
import pytest

from arkund.core.card.distortion import LEAST_DB, residual_db
from arkund.core.units import db_to_gain

RATE = 48_000
TIMES = [0.2 + 0.25 * k for k in range(8)]


def tones(*levels: float, hz: float = 1000.0) -> np.ndarray:
    """Long bursts of a sine, one a hit, at some levels."""
    out = np.zeros((round(2.4 * RATE), 2), np.float32)
    n = round(0.08 * RATE)
    sine = np.sin(2.0 * np.pi * hz * np.arange(n) / RATE)
    for t, level in zip(TIMES, levels * 8, strict=False):
        at = round((t - 0.02) * RATE)
        out[at : at + n] = (level * sine)[:, None]
    return out


class TestResidual:
    """In dB of what comes out."""

    def test_a_wire(self):
        """However loud, and turned over."""
        x = np.random.default_rng(9200).standard_normal((round(2.4 * RATE), 2)).astype(np.float32)
        for y in (x, x * db_to_gain(-9.0), -x):
            assert residual_db(x, y, TIMES, RATE) < LEAST_DB + 10.0

    def test_a_clipped_sine(self):
        """A sine clipped at half its peak: its fundamental is (2 a + sin 2 a) / pi + 4 c cos(a) / pi of it with a = asin c and c = 1/2, by Fourier; what is
        left is the rest of its power.
        """
        x, c = tones(1.0), 0.5
        y = np.clip(x, -c, c)
        a = np.arcsin(c)
        first = (2.0 / np.pi) * (a + c * np.cos(a))
        whole = 2.0 / np.pi * (a / 2.0 - np.sin(2.0 * a) / 4.0 + c * c * (np.pi / 2.0 - a))
        wanted = 10.0 * np.log10(1.0 - first**2 / 2.0 / whole)
        assert residual_db(x, y, TIMES, RATE) == pytest.approx(wanted, abs=0.2)

    def test_the_deeper_the_more(self):
        """By a clipper at 1, 2, 4 and 8 dB under the peak."""
        x = tones(1.0)
        found = [residual_db(x, np.clip(x, -c, c), TIMES, RATE) for c in db_to_gain(np.array([-1.0, -2.0, -4.0, -8.0]))]
        assert found == sorted(found)
        assert found[0] < -25.0 < found[-1]

    def test_few_hits(self):
        """And silence tell nothing."""
        x = tones(1.0)
        assert residual_db(x, x, TIMES[:2], RATE) is None
        assert residual_db(0.0 * x, 0.0 * x, TIMES, RATE) is None
