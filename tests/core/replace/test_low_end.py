"""Who carries a drum's low end, against closed forms."""

import numpy as np
import pytest

from arkund.core.replace.low_end import BANDS_HZ, low_end

RATE = 48_000
HITS = tuple(0.5 + k for k in range(6))


def strokes(frequency_hz: float, gain: float = 0.1, late_s: float = 0.0) -> np.ndarray:
    t = np.arange(7 * RATE) / RATE
    out = np.zeros(t.size)
    for at in HITS:
        late = t - at - late_s
        out += (late >= 0) * (late < 0.5) * gain * np.sin(2 * np.pi * frequency_hz * late)
    return out.astype(np.float32)


class TestLowEnd:
    """By band, by strip, together."""

    def test_the_same_twice_is_six_db_more(self):
        """And in the other polarity nothing is left."""
        one = strokes(50.0)
        assert low_end({"a": one, "b": one}, HITS, RATE).gain_db == pytest.approx(6.0, abs=0.1)
        assert low_end({"a": one, "b": -one}, HITS, RATE).gain_db < -60.0

    def test_who_carries_most(self):
        """The strip that is louder between 40 and 110 Hz, whatever lies above."""
        found = low_end({"deep": strokes(60.0, 0.1), "bright": strokes(400.0, 0.5)}, HITS, RATE)
        assert found.strongest == "deep"
        assert found.gain_db == pytest.approx(0.0, abs=0.5)
        assert BANDS_HZ[int(np.argmax(found.by_strip["deep"]))] == 63.0

    def test_levels(self):
        """Twice the gain is six dB more in its band."""
        a, b = (low_end({"a": strokes(63.0, gain)}, HITS, RATE) for gain in (0.1, 0.2))
        assert np.subtract(b.by_strip["a"], a.by_strip["a"])[4] == pytest.approx(6.02, abs=0.11)

    def test_nothing(self):
        """Without hits, without strips, and of silence."""
        assert low_end({"a": strokes(50.0)}, (), RATE) is None
        assert low_end({}, HITS, RATE) is None
        assert low_end({"a": np.zeros(7 * RATE, np.float32)}, HITS, RATE) is None
