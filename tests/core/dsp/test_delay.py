"""Fractional delay and arrival against closed forms."""

import numpy as np
import pytest

from arkund.core.dsp.delay import HALF_TAPS, part_sample_filter, read_at_speed, read_delayed
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


class TestReadAtSpeed:
    """Another clock."""

    @pytest.mark.parametrize("ppm", [-300.0, -8.5, 40.0])
    def test_a_sine_changes_its_frequency(self, ppm):
        """Against the sine at that speed in closed form, 80 dB down, late in the song too."""
        n, speed = np.arange(3_000_000, 3_040_000), 1 + ppm * 1e-6

        def read(start, stop):
            return np.sin(2 * np.pi * 5000 / 48_000 * np.arange(start, stop)).astype(np.float32)

        out = read_at_speed(read, speed, int(n[0]), int(n[-1]) + 1)
        assert np.max(np.abs(out - np.sin(2 * np.pi * 5000 / 48_000 * speed * n))) < 1e-3

    def test_any_span_is_the_same(self):
        """Read in pieces as well as whole."""
        x = np.random.default_rng(3).normal(0, 0.1, 60_000).astype(np.float32)
        read = ArrayMic(x).read
        whole = read_at_speed(read, 1.00005, 0, 50_000)
        for start, stop in ((0, 100), (8190, 8200), (33_333, 50_000)):
            assert read_at_speed(read, 1.00005, start, stop) == pytest.approx(whole[start:stop], abs=1e-7)
