"""The kit against the rest of the music."""

import numpy as np
import pytest

from arkund.core.blend.music import Against, against, as_loud_db, middle_of
from arkund.core.dsp import filters
from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.dsp.spectrum import OCTAVES_HZ

RATE = 48_000


def noise(seed: int, gain: float = 0.1) -> np.ndarray:
    return (gain * np.random.default_rng(seed).standard_normal((4 * RATE, 2))).astype(np.float32)


class TestAgainst:
    """Known sounds at known levels."""

    @pytest.mark.parametrize("louder_db", [-9.0, 0.0, 6.0])
    def test_level(self, louder_db):
        """The same kind of noise so much louder is that in every octave, and in loudness."""
        found = against(noise(1, 0.1 * 10 ** (louder_db / 20)), noise(2), 0.0, RATE)
        assert found.kit_lufs - found.music_lufs == pytest.approx(louder_db, abs=0.2)
        assert found.octaves_db == pytest.approx([louder_db] * len(OCTAVES_HZ), abs=0.6)
        assert found.presence_db == pytest.approx(louder_db, abs=0.2)

    def test_band(self):
        """A lift of the kit by 6 dB around 2 kHz is in that octave, and not in those far from it."""
        lift = filters.bell(2000.0, 6.0, 1.4, RATE)
        kit = filter_bank(bank_of(list(noise(1).T)), [(lift,), (lift,)])[:, :2]
        plain, lifted = (against(x, noise(2), 0.0, RATE) for x in (noise(1), kit))
        by = np.subtract(lifted.octaves_db, plain.octaves_db)
        assert by[OCTAVES_HZ.index(2000.0)] == pytest.approx(4.9, abs=0.6)  # over the octave
        assert np.abs(by[:4]).max() < 0.3
        assert 2.0 < lifted.presence_db - plain.presence_db < 5.0

    def test_silence(self):
        """Says nothing."""
        assert against(noise(1), np.zeros((4 * RATE, 2), np.float32), 0.0, RATE) is None
        assert against(np.zeros((4 * RATE, 2), np.float32), noise(2), 0.0, RATE) is None

    def test_its_level(self):
        """The music softer by 6 dB is that much further behind."""
        plain, softer = (against(noise(1), noise(2), level_db, RATE) for level_db in (0.0, -6.0))
        assert np.subtract(softer.octaves_db, plain.octaves_db) == pytest.approx([6.0] * len(OCTAVES_HZ), abs=0.11)


def test_as_loud():
    """Raised by what it is softer over most of the parts, to half a dB, within what a level may be."""
    parts = [Against(kit, -24.0, (), 0.0) for kit in (-20.0, -18.3, -5.0)]
    assert as_loud_db(parts, -6.0) == -0.5
    assert as_loud_db(parts, 11.0) == 12.0
    assert as_loud_db([], -6.0) == -6.0


def test_the_middle_of_a_section():
    """Eight seconds of a long one, all of a short one."""
    assert middle_of(10.0, 30.0, 100) == (1600, 2400)
    assert middle_of(10.0, 14.0, 100) == (1000, 1400)
