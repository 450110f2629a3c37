"""The kit against the rest of the music."""

import numpy as np
import pytest

from arkund.core.blend.music import OCTAVES_HZ, against
from arkund.core.dsp import filters
from arkund.core.dsp.bank import bank_of, filter_bank

RATE = 48_000


def noise(seed: int, gain: float = 0.1) -> np.ndarray:
    return (gain * np.random.default_rng(seed).standard_normal((4 * RATE, 2))).astype(np.float32)


class TestAgainst:
    """Known sounds at known levels."""

    @pytest.mark.parametrize("louder_db", [-9.0, 0.0, 6.0])
    def test_level(self, louder_db):
        """The same kind of noise so much louder is that in every octave, and in loudness."""
        found = against(noise(1, 0.1 * 10 ** (louder_db / 20)), noise(2), RATE)
        assert found.kit_lufs - found.music_lufs == pytest.approx(louder_db, abs=0.2)
        assert found.octaves_db == pytest.approx([louder_db] * len(OCTAVES_HZ), abs=0.6)
        assert found.presence_db == pytest.approx(louder_db, abs=0.2)

    def test_band(self):
        """A lift of the kit by 6 dB around 2 kHz is in that octave, and not in those far from it."""
        lift = filters.bell(2000.0, 6.0, 1.4, RATE)
        kit = filter_bank(bank_of(list(noise(1).T)), [(lift,), (lift,)])[:, :2]
        plain, lifted = (against(x, noise(2), RATE) for x in (noise(1), kit))
        by = np.subtract(lifted.octaves_db, plain.octaves_db)
        assert by[OCTAVES_HZ.index(2000.0)] == pytest.approx(4.9, abs=0.6)  # over the octave
        assert np.abs(by[:4]).max() < 0.3
        assert 2.0 < lifted.presence_db - plain.presence_db < 5.0

    def test_silence(self):
        """Says nothing."""
        assert against(noise(1), np.zeros((4 * RATE, 2), np.float32), RATE) is None
        assert against(np.zeros((4 * RATE, 2), np.float32), noise(2), RATE) is None
