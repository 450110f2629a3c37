"""The null test in closed form."""

import numpy as np
import pytest

from arkund.core.dsp.null import null_db
from arkund.core.units import SILENCE_DB

X = np.random.default_rng(5).normal(0, 0.1, 48_000)


class TestNull:
    """What is left of one signal without the other."""

    @pytest.mark.parametrize("gain", [1.0, -0.25, 3.0])
    def test_a_copy_leaves_nothing(self, gain):
        """At any gain and polarity, which are told."""
        left, found = null_db(X, gain * X)
        assert left == SILENCE_DB
        assert found == pytest.approx(gain)

    @pytest.mark.parametrize("noise_db", [-60.0, -20.0])
    def test_what_was_added_is_left(self, noise_db):
        """To a tenth of a dB."""
        added = np.random.default_rng(6).normal(0, 0.1 * 10 ** (noise_db / 20), X.size)
        left, _ = null_db(X, X + added)
        assert left == pytest.approx(noise_db - 10 * np.log10(1 + 10 ** (noise_db / 10)), abs=0.1)

    def test_nothing_in_common(self):
        """Leaves all."""
        assert null_db(X, np.random.default_rng(7).normal(0, 0.1, X.size))[0] == pytest.approx(0.0, abs=0.01)

    def test_silence(self):
        """Is no copy of anything."""
        assert null_db(np.zeros(10), X[:10]) == (0.0, 0.0)
        assert null_db(X[:10], np.zeros(10)) == (0.0, 0.0)
