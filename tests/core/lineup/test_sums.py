"""What sums gain by band, against closed forms."""

import numpy as np
import pytest

from arkund.core.lineup import sums


class TestBandGain:
    """What a sum gains by band, against closed forms."""

    def test_in_step_against_and_unrelated(self):
        """+3 dB for copies, deep loss for inverted ones, 0 for unrelated noise."""
        rng = np.random.default_rng(2)
        a, b = rng.standard_normal((2, 20, 4800))
        assert sums.band_gain_db([a, a], 48_000) == pytest.approx([3.01] * 6, abs=0.01)
        assert max(sums.band_gain_db([a, -a], 48_000)) < -100
        assert max(map(abs, sums.band_gain_db([a, b], 48_000)[2:])) < 1.0

    def test_all_mics_of_a_drum_at_once(self):
        """Four copies gain 6 dB; of three in step and one of twice their level against them little is left; levels count."""
        a = np.random.default_rng(3).standard_normal((20, 4800))
        assert sums.band_gain_db([a] * 4, 48_000) == pytest.approx([sums.most_gain_db(4)] * 6, abs=0.01)
        assert sums.most_gain_db(4) == pytest.approx(6.02, abs=0.01)
        assert sums.sum_gain_db([a, a, a, -a], [0.0, 0.0, 0.0, 20 * np.log10(2)], 48_000) == pytest.approx(
            [10 * np.log10(1 / 7)] * 6, abs=0.01
        )

    def test_pairs_speak_of_phase_alone(self):
        """A copy of a tenth is as much in step as one of the same level."""
        a = np.random.default_rng(4).standard_normal((20, 4800))
        assert sums.pair_gain_db(a, 0.1 * a, 48_000) == pytest.approx([3.01] * 6, abs=0.01)

    def test_one_millisecond_cancels_500_hz(self):
        """Two copies d ms apart cancel at 1/(2d)."""
        t = np.arange(9600) / 48_000
        a = np.sin(2 * np.pi * 499 * t)[None, :] * np.hanning(t.size)
        b = np.roll(a, 48, axis=1)
        assert sums.band_gain_db([a, b], 48_000)[3] < -20
