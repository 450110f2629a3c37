"""Fractional delay and arrival against closed forms."""

import numpy as np
import pytest

from arkund.core.dsp.delay import arrival_difference, part_sample_filter, read_delayed
from arkund.core.files.audio import ArrayMic


class TestReadDelayed:
    """A sine delayed by a part of a sample is the same sine later."""

    @pytest.mark.parametrize("delay", [0.0, 3.0, -7.0, 0.5, 12.25, -3.7])
    @pytest.mark.parametrize("frequency", [100.0, 5_000.0, 15_000.0])
    def test_sine(self, delay, frequency):
        """Within -80 dB up to 15 kHz at 48 kHz."""
        t = np.arange(9600)
        reader = ArrayMic(np.sin(2 * np.pi * frequency * t / 48_000))
        got = read_delayed(reader.read, 1000, 5000, delay)
        wanted = np.sin(2 * np.pi * frequency * (np.arange(1000, 5000) - delay) / 48_000)
        assert np.max(np.abs(got - wanted)) < 1.2e-4

    def test_spans_join(self):
        """Two spans read apart equal one read whole."""
        reader = ArrayMic(np.random.default_rng(3).standard_normal(4000))
        whole = read_delayed(reader.read, 0, 3000, 2.37)
        halves = np.concatenate([read_delayed(reader.read, 0, 1111, 2.37), read_delayed(reader.read, 1111, 3000, 2.37)])
        assert np.max(np.abs(whole - halves)) < 1e-6

    def test_filter_has_unity_gain(self):
        """DC passes unchanged."""
        for part in (0.1, 0.5, 0.99):
            assert part_sample_filter(part).sum() == pytest.approx(1.0, abs=1e-6)


class TestArrivalDifference:
    """Delay and polarity of one sound in two recordings."""

    @pytest.mark.parametrize("delay", [0.0, 17.0, -23.4, 5.5])
    @pytest.mark.parametrize("sign", [1, -1])
    def test_band_limited_noise(self, delay, sign):
        """Within a fifth of a sample, polarity by the sign."""
        rng = np.random.default_rng(12)
        sound = np.convolve(rng.standard_normal(4000), np.hanning(15), "same")
        reader = ArrayMic(sound)
        a = reader.read(500, 3500)
        b = sign * read_delayed(reader.read, 500, 3500, delay)
        found, height = arrival_difference(a, b, 60)
        assert found == pytest.approx(delay, abs=0.2)
        assert np.sign(height) == sign
