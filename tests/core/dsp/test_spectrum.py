"""Averaged spectra: a sine stands where it should and as high."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.dsp.spectrum import axis_hz, power_density, spectrum_db, third_octaves_hz, tukey


class TestSpectrum:
    """Levels, places and empty input."""

    @pytest.mark.parametrize("frequency", [100.0, 1000.0, 8000.0])
    def test_sine_is_the_highest_band(self, frequency):
        """The band with the sine stands at least 20 dB over the next but one."""
        t = np.arange(24_000) / 48_000
        found = spectrum_db([np.sin(2 * np.pi * frequency * t) * np.hanning(t.size)], 48_000)
        axis = axis_hz(48_000)
        best = int(np.argmax(found))
        assert abs(np.log2(axis[best] / frequency)) < 1 / 12
        assert found[best] - max(found[best - 3], found[best + 3]) > 20

    @pytest.mark.parametrize(("size", "part"), [(2, 0.1), (101, 0.1), (1536, 0.15), (64, 1.0)])
    def test_tukey(self, size, part):
        """As an independent implementation has it."""
        assert tukey(size, part) == pytest.approx(signal.windows.tukey(size, part), abs=1e-12)

    def test_nothing_to_average(self):
        """No pieces give a flat floor, not an error."""
        assert np.all(spectrum_db([], 48_000) == -140.0)

    @pytest.mark.parametrize("rate", [44_100, 96_000])
    def test_axis(self, rate):
        """The axis starts at 20 Hz and ends at 20 kHz."""
        axis = axis_hz(rate)
        assert axis[0] == pytest.approx(20.0)
        assert 18_000 < axis[-1] <= 20_000


class TestPowerDensity:
    """Of both sides together."""

    @pytest.mark.parametrize("samples", [1, 2, 3, 8, 1001, 4096])
    def test_two_sides_at_once(self, samples):
        """What one complex transform gives of a pair is what each side's own gives, for odd and even lengths."""
        x = np.random.default_rng(samples).standard_normal((samples, 2)).astype(np.float32)
        each = np.sum(np.abs(np.fft.rfft(x.astype(float), axis=0)) ** 2, axis=1)
        assert power_density(x) == pytest.approx(each, rel=1e-4, abs=1e-4)
        assert power_density(x[:, :1]) == pytest.approx(
            np.abs(np.fft.rfft(x[:, 0].astype(float))) ** 2, rel=1e-4, abs=1e-4
        )


class TestThirdOctaves:
    """By their nominal middles."""

    def test_from_and_to(self):
        """The exact middles of IEC 61260-1, base two, that the nominal ones stand for."""
        found = third_octaves_hz(31.5, 16_000.0)
        assert found[[0, 1, 15, -1]] == pytest.approx([31.25, 39.37, 1000.0, 16_000.0], abs=0.01)
        assert np.diff(np.log2(found)) == pytest.approx(np.full(found.size - 1, 1.0 / 3.0))
