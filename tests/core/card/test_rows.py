"""What rows of tools do over time, told from what comes into them and what leaves them."""

import numpy as np
import pytest

from arkund.core.card.rows import NOT_CUT_DB, cut_db, gain_range_db, is_steady
from arkund.core.clean.ring import ringing
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.tone import Band, Tone
from arkund.core.units import db_to_gain
from tests.core.clean.test_regions import tom

RATE = 48_000
TIMES_S = [0.5, 3.5, 6.5, 9.5]
T60_S = 2.4


def washes(seed: int) -> np.ndarray:
    """Return twelve seconds of a cymbal [shape=(samples, 1)]."""
    return np.random.default_rng(seed).normal(0.0, 0.1, (12 * RATE, 1)).astype(np.float32)


class TestSteady:
    """Which tools do the same at every moment."""

    def test_filters_stand_still_unless_they_move(self):
        still = Tone(on=True, bands=(Band(frequency_hz=300.0, gain_db=-4.0),))
        moving = still.replace(bands=(Band(frequency_hz=300.0, gain_db=-4.0, range_db=-6.0),))
        assert is_steady([still, Compressor(on=False)])
        assert not is_steady([moving])
        assert not is_steady([Compressor(on=True)])


class TestGainRange:
    """From the least to the most that is done to a mic's highs."""

    @pytest.mark.parametrize("deep_db", [0.0, 3.0, 8.0])
    def test_a_swing_of_known_depth(self, deep_db):
        """Half the time turned down by so much: that is the range; a level that stands changes nothing."""
        x = washes(41)
        gain = np.where((np.arange(x.shape[0]) // (RATE // 2)) % 2, db_to_gain(-deep_db), 1.0)[:, None]
        assert gain_range_db([(x, 0.4 * gain * x)], RATE) == pytest.approx(deep_db, abs=0.05)

    def test_rows_behind_each_other_add_up(self):
        """What the group takes off where the mic's row gives it back is no swing."""
        x = washes(43)
        gain = np.where((np.arange(x.shape[0]) // RATE) % 2, db_to_gain(-5.0), 1.0)[:, None]
        assert gain_range_db([(x, gain * x), (gain * x, x)], RATE) == pytest.approx(0.0, abs=1e-6)

    def test_what_lies_below_is_left_out(self):
        """A swing of 100 Hz alone is none of the highs."""
        low = 0.2 * np.sin(2 * np.pi * 100.0 * np.arange(12 * RATE) / RATE)[:, None].astype(np.float32)
        gain = np.where((np.arange(low.shape[0]) // RATE) % 2, 0.2, 1.0)[:, None]
        smooth = np.convolve(gain[:, 0], np.hanning(4801) / np.hanning(4801).sum(), mode="same")[:, None]
        x = washes(47)
        assert gain_range_db([(x + low, x + smooth * low)], RATE) < 0.3

    def test_silence_tells_nothing(self):
        assert gain_range_db([(np.zeros((RATE, 1)), np.zeros((RATE, 1)))], RATE) is None


class TestCut:
    """How far a drum has rung out where its tail is cut."""

    @staticmethod
    def cut_after(rung_db: float, bleed_db: float, trim_db: float = 0.0) -> float | None:
        x = tom(TIMES_S, [-8.0] * len(TIMES_S), T60_S, 14.0, bleed_db)
        rings = ringing(lambda start, stop: x[start:stop], x.size, TIMES_S, RATE)
        x = x * np.float32(db_to_gain(trim_db))
        open_s, out = T60_S * rung_db / 60.0, np.full(x.size, db_to_gain(-24.0))
        for t in TIMES_S:
            out[round((t - 0.01) * RATE) : round((t + open_s) * RATE)] = 1.0
        return cut_db(x, (x * out).astype(np.float32), rings, trim_db, TIMES_S, RATE)

    @pytest.mark.parametrize("rung_db", [8.0, 20.0, 32.0])
    @pytest.mark.parametrize("trim_db", [0.0, 7.0])
    def test_at_the_level_it_was_cut(self, rung_db, trim_db):
        """Within 2 dB: the RMS of 5 ms of a tone of 131 Hz goes up and down by 1.8 dB (1 + and - sin(1.31 pi) / (1.31 pi))."""
        assert self.cut_after(rung_db, -100.0, trim_db=trim_db) == pytest.approx(-rung_db, abs=2.0)

    def test_under_the_bleed_nothing_is_lost(self):
        """Cut 24 dB down where bleed lies 18 dB under the hits: what was cut was not heard; 10 dB down it was."""
        assert self.cut_after(24.0, -26.0) == NOT_CUT_DB
        assert self.cut_after(10.0, -26.0) == pytest.approx(-10.0, abs=1.5)

    def test_what_rings_on_is_not_cut(self):
        assert self.cut_after(200.0, -100.0) == NOT_CUT_DB

    def test_strokes_that_follow_at_once_tell_nothing(self):
        """A roll has no tail between its strokes."""
        x = tom([0.5, 0.6, 0.7], [-8.0] * 3, T60_S, 14.0, -100.0)
        rings = ringing(lambda start, stop: x[start:stop], x.size, [0.5, 0.6, 0.7], RATE)
        assert cut_db(x[: round(0.79 * RATE)], x[: round(0.79 * RATE)], rings, 0.0, [0.5, 0.6, 0.7], RATE) is None
