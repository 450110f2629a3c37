"""Channels in lock-step: banks, and the bounds of the polynomials."""

import numpy as np
import pytest

from arkund.core.dsp import _arithmetic
from arkund.core.dsp.bank import NARROW, WIDE, bank_of, empty_bank, filter_bank
from arkund.core.dsp.filters import bell, high_pass
from arkund.core.errors import AudioError
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.gate import Gate
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tool import Key
from tests.stages import row_through

RATE = 48_000


def drums(seed: int, seconds: float = 0.5) -> np.ndarray:
    """A few decaying bursts of noise over a soft floor."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    out = rng.standard_normal(n) * 0.001
    for at in rng.integers(0, n, 5):
        t = np.arange(n - at) / RATE
        out[at:] += rng.uniform(0.1, 0.9) * rng.standard_normal(n - at) * np.exp(-t / rng.uniform(0.01, 0.06))
    return out.astype(np.float32)


class TestPolynomials:
    """log2 and exp2 stay within the stated bounds."""

    def test_log2(self):
        """Within 2e-5 octaves (0.00012 dB) from -180 dB to +12 dB."""
        values = np.geomspace(1e-9, 4.0, 300_000).astype(np.float32)
        logs, powers = np.zeros_like(values), np.zeros_like(values)
        _arithmetic.polynomials(values, logs, powers)
        assert np.max(np.abs(logs - np.log2(values.astype(float) + 1e-9))) < 2e-5

    def test_exp2(self):
        """Within 1e-5 of the value from -40 to 40 octaves."""
        values = np.linspace(-40.0, 40.0, 300_001).astype(np.float32)
        logs, powers = np.zeros_like(values), np.zeros_like(values)
        _arithmetic.polynomials(values, logs, powers)
        assert np.max(np.abs(powers / np.exp2(values.astype(float)) - 1.0)) < 1e-5


class TestBank:
    """Channels side by side do not hear each other, and the width does not matter."""

    def test_width(self):
        """Few channels take a narrow bank."""
        assert empty_bank(10, 2).shape == (10, NARROW)
        assert empty_bank(10, 5).shape == (10, 8)
        assert empty_bank(10, 9).shape == (10, WIDE)

    @pytest.mark.parametrize("count", [0, 17])
    def test_too_many(self, count):
        """A bank holds 1 to 16 channels."""
        with pytest.raises(AudioError, match="1 to 16"):
            empty_bank(10, count)

    def test_narrow_equals_wide(self):
        """The same channel gives the same samples in either width."""
        x = drums(1)
        sections = [bell(200.0, 6.0, 2.0, RATE), *high_pass(60.0, 4, RATE)]
        row = [
            Gate(on=True, threshold_db=-30.0),
            Shaper(on=True, attack_db=7.0, sustain_db=-5.0),
            Compressor(on=True, threshold_db=-30.0, key=Key(low_hz=200.0)),
        ]

        def chain(count: int) -> np.ndarray:
            filtered = filter_bank(bank_of([x] * count), [sections] * count)
            return row_through([row] * count, list(filtered[:, :count].T))

        narrow = chain(1)[:, 0]
        for count in (3, 5, 9, 16):
            assert all(np.array_equal(narrow, lane) for lane in chain(count)[:, :count].T)

    def test_cascades_of_different_length(self):
        """A channel with fewer sections passes the rest unchanged."""
        x = drums(2)
        out = filter_bank(bank_of([x, x]), [[bell(300.0, 5.0, 1.0, RATE)], []])
        assert np.array_equal(out[:, 1], x)
        assert not np.allclose(out[:, 0], x)

    def test_the_input_is_left_alone(self):
        """Processing returns a new array."""
        bank = bank_of([drums(3)])
        before = bank.copy()
        filter_bank(bank, [[bell(300.0, 5.0, 1.0, RATE)]])
        assert np.array_equal(bank, before)

    def test_silence_after_sound_becomes_exact_zero(self):
        """States are flushed before they become denormal."""
        x = np.zeros(RATE * 4, np.float32)
        x[:100] = 0.5
        out = filter_bank(bank_of([x]), [[bell(60.0, 6.0, 1.0, RATE)]])
        assert np.all(out[-RATE:, 0] == 0.0)
