"""How far apart two versions sound: nothing where there is nothing to hear, and as much as was changed."""

import numpy as np
import pytest
from scipy.signal import sosfilt

from arkund.core.card.audible import difference_db
from arkund.core.dsp.filters import bell
from arkund.core.errors import AudioError
from arkund.core.units import db_to_gain

RATE = 48_000


def noise(seed: int, seconds: float = 6.0) -> np.ndarray:
    return 0.1 * np.random.default_rng(seed).standard_normal((round(seconds * RATE), 2)).astype(np.float32)


def toned(x: np.ndarray, gain_db: float, frequency_hz: float = 2000.0) -> np.ndarray:
    f = bell(frequency_hz, gain_db, 0.7, RATE)
    return sosfilt([[f.b0, f.b1, f.b2, 1.0, f.a1, f.a2]], x, axis=0).astype(np.float32)


class TestDifference:
    """In dB, of what is heard."""

    @pytest.mark.parametrize(
        "changed",
        [lambda x: x, lambda x: x * db_to_gain(-7.0), lambda x: -x],
        ids=["the same", "softer as a whole", "turned over as a whole"],
    )
    def test_nothing_to_hear(self, changed):
        """What an ear cannot tell apart at one loudness."""
        x = noise(9100)
        assert difference_db(x, changed(x), RATE) < 0.01

    def test_levels_that_come_and_go(self):
        """Half a second 3 dB up, half a second 3 dB down: matched that is +2.03 and -3.97 dB, weighted by the power of 0.23 of the louder 2.95 dB."""
        x = noise(9101, 8.0)
        up = (np.arange(len(x)) // (RATE // 2)) % 2 == 0
        gain = np.where(up, db_to_gain(3.0), db_to_gain(-3.0)).astype(np.float32)[:, None]
        assert difference_db(x, x * gain, RATE) == pytest.approx(2.95, abs=0.1)

    def test_one_side(self):
        """A side that goes away counts on that side alone; one that is silent in both does not count."""
        x = noise(9102) * np.float32([1.0, 0.0])
        assert difference_db(x, x * db_to_gain(6.0), RATE) < 0.01
        both = noise(9103)
        assert difference_db(both, both * np.float32([1.0, 0.5]), RATE) == pytest.approx(3.0, abs=0.3)

    def test_the_more_the_further(self):
        """Tone by tone, and the same up as down within a third."""
        x = noise(9104)
        found = [difference_db(x, toned(x, gain_db), RATE) for gain_db in (0.5, 1.0, 2.0, 4.0, 8.0)]
        assert found == sorted(found)
        assert found[0] < 0.5 < found[-1]
        assert difference_db(x, toned(x, -4.0), RATE) == pytest.approx(found[3], rel=0.33)

    def test_heard_no_more(self):
        """What lies under everything else is not heard of; silence against silence is the same, and against sound as far as may be."""
        x = noise(9105)
        quiet = 1e-5 * noise(9106)
        assert difference_db(x, x + quiet, RATE) < 0.02
        silent = np.zeros_like(x)
        assert difference_db(silent, silent, RATE) == 0.0
        assert difference_db(x, silent, RATE) == 24.0

    def test_other_moments(self):
        """Samples of another length are refused."""
        with pytest.raises(AudioError, match="after"):
            difference_db(noise(9107), noise(9107, 5.0), RATE)
