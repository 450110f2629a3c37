"""What is left of a reduction within rolls."""

import numpy as np
import pytest

from arkund.core.hits.resolve import Hit
from arkund.core.punch.measure import hits_before, in_rolls, taken
from arkund.core.tools.compressor import Compressor

RATE = 48_000


def hits(*times_s: float) -> list[Hit]:
    return [Hit("tom1", t, -6.0, 100, False) for t in times_s]


class TestInRolls:
    """Which hits are a roll's."""

    def test_fills_among_single_hits(self):
        """Those that another follows soon, and how soon; the last of each fill is none of them."""
        fills = [0.5, 0.62, 0.74, 0.86, 4.0, 8.0, 8.13, 8.25]
        found, gap_s = in_rolls(hits(*fills, 12.0))
        assert [h.time_s for h in found] == [0.5, 0.62, 0.74, 8.0, 8.13]
        assert gap_s == pytest.approx(0.12)

    def test_too_few(self):
        """Two hits that once fell together are no roll."""
        assert in_rolls(hits(1.0, 1.1, 3.0, 5.0)) == ([], 0.0)

    @pytest.mark.parametrize(("release_ms", "gap_s"), [(60.0, 0.12), (200.0, 0.12), (200.0, 0.2)])
    def test_what_is_left(self, release_ms, gap_s):
        """Bursts of 2 ms: by the next one the reduction has fallen by the release alone, exp(-t / release)."""
        at = 1.0 + gap_s * np.arange(6)
        x, noise = np.zeros(3 * RATE, np.float32), np.random.default_rng(5).uniform(-1.0, 1.0, RATE // 500)
        for t in at:
            x[round(t * RATE) :][: noise.size] = np.sign(noise)
        mine = Compressor(on=True, threshold_db=-20.0, ratio=4.0, knee_db=0.0, attack_ms=0.05, release_ms=release_ms)
        found, gap = in_rolls(hits(*at))
        rolled = taken(hits_before(lambda a, b: x[a:b], found, gap, RATE), mine, RATE)
        after_ms = 1000.0 * gap_s - 2.0
        assert rolled.deepest_db == pytest.approx(15.0, abs=0.3)
        assert rolled.left_db == pytest.approx(15.0 * np.exp(-after_ms / release_ms), abs=0.3)
        assert rolled.after_s == pytest.approx(gap_s)
