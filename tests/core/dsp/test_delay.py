"""Fractional delay and arrival against closed forms."""

import numpy as np
import pytest

from arkund.core.dsp.delay import HALF_TAPS, part_sample_filter, read_delayed
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


class TestAgainstConvolution:
    """The compiled filter equals the plain sum."""

    @pytest.mark.parametrize("delay", [0.3, -5.71])
    def test_double_precision(self, delay):
        """Within 1e-6 of numpy's convolution in double precision, and bit for bit the same whatever span is read."""
        reader = ArrayMic(np.random.default_rng(12).standard_normal(4000))
        whole, part = int(np.floor(delay)), delay - np.floor(delay)
        taps = part_sample_filter(float(part)).astype(float)
        x = reader.read(500 - whole - HALF_TAPS, 1500 - whole + HALF_TAPS - 1).astype(float)
        got = read_delayed(reader.read, 500, 1500, delay)
        assert np.abs(got - np.convolve(x, taps, "valid")[:1000]).max() < 1e-6
        assert np.array_equal(got[333:700], read_delayed(reader.read, 833, 1200, delay))
