"""Units against their definitions."""

import numpy as np
import pytest

from arkund.core import units


class TestDecibels:
    """20 log10 for amplitudes, 10 log10 for powers."""

    @pytest.mark.parametrize(("level_db", "gain"), [(0, 1), (20, 10), (-20, 0.1), (6.020599913, 2), (-60, 0.001)])
    def test_both_ways(self, level_db, gain):
        """The two functions are inverse."""
        assert units.db_to_gain(level_db) == pytest.approx(gain)
        assert units.gain_to_db(gain) == pytest.approx(level_db)

    def test_silence_has_a_floor(self):
        """Zero is not minus infinity."""
        assert units.gain_to_db(0.0) == units.SILENCE_DB
        assert units.power_to_db(0.0) == pytest.approx(units.SILENCE_DB)

    def test_arrays(self):
        """Arrays stay arrays; signs do not matter for a level."""
        assert np.allclose(units.gain_to_db(np.array([1.0, -1.0, 0.1])), [0, 0, -20])


class TestDistance:
    """1 ms is 34.3 cm at 20 degrees C."""

    def test_speed(self):
        """331.3 m/s at 0 degrees, 343.2 at 20."""
        assert units.sound_speed_m_s(0.0) == pytest.approx(331.3)
        assert units.sound_speed_m_s(20.0) == pytest.approx(343.2, abs=0.1)

    def test_centimetres(self):
        """Distance is time times speed."""
        assert units.ms_to_cm(1.0) == pytest.approx(34.3, abs=0.05)
        assert units.ms_to_cm(-2.0, 0.0) == pytest.approx(-66.26)

    def test_samples(self):
        """Times round to the nearest sample."""
        assert units.samples(0.5, 48_000) == 24_000
        assert units.ms_to_samples(1.0, 44_100) == pytest.approx(44.1)
