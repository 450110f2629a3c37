"""Averaged spectra: a sine stands where it should and as high."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.dsp.spectrum import axis_hz, spectrum_db, tukey


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
