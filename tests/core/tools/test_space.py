"""A space: its decay is what is set, it is dense soon, it neither flutters nor vanishes in mono; the loop is that of the books."""

from functools import cache

import numpy as np
import pytest
from scipy import signal

from arkund.core.tools import space
from arkund.core.tools.plain import residual_db
from arkund.core.tools.space import Space, decay_curve_s
from tests.core.dsp.test_bank import drums
from tests.stages import RATE, through

OCTAVES_HZ = np.array([125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0])
PLATE = Space(on=True, pre_delay_ms=0.0, decay_s=1.4, size_m=9.0, density=1.0, lows=0.8, highs=0.6)
SMALL_ROOM = Space(on=True, pre_delay_ms=0.0, decay_s=0.5, size_m=5.0, highs=0.7)
ROOMS = {
    "first": Space(on=True, pre_delay_ms=0.0),
    "plate": PLATE,
    "small room": SMALL_ROOM,
    "hall": Space(on=True, pre_delay_ms=0.0, decay_s=2.5, size_m=18.0, lows=1.3),
}


@cache
def impulses(name: str) -> np.ndarray:
    """Return what an impulse leaves, from left and from right to left and to right [shape=(4, samples)]."""
    room = ROOMS[name]
    one = np.zeros(int((1.3 * room.rings_s() + 0.3) * RATE), np.float32)
    nothing = np.zeros_like(one)
    one[0] = 1.0
    return np.concatenate([through(room, one, nothing).T, through(room, nothing, one).T])


def decay_s(responses: np.ndarray, frequency_hz: float) -> float:
    """Return the time to fall by 60 dB in an octave, from -5 to -35 dB of the energy that is still to come (M. R. Schroeder, 1965)."""
    sos = signal.butter(4, [frequency_hz / 2**0.5, frequency_hz * 2**0.5], "bandpass", fs=RATE, output="sos")
    power = np.sum(signal.sosfiltfilt(sos, responses.astype(float), axis=1) ** 2, axis=0)
    left = np.cumsum(power[::-1])[::-1]
    level = 10 * np.log10(left / left[0] + 1e-30)
    seen = np.flatnonzero((level < -5) & (level > -35))
    return -60.0 / np.polyfit(seen / RATE, level[seen], 1)[0]


def density(response: np.ndarray) -> np.ndarray:
    """Return the echo density over time, 1 = as dense as Gaussian noise (J. S. Abel and P. Huang, AES 121st Convention, 2006), in windows of 20 ms."""
    window = np.hanning(RATE // 50)
    window /= window.sum()
    spread = np.sqrt(np.convolve(response**2, window, "same"))
    return np.convolve(np.abs(response) > spread, window, "same") / 0.3173


class TestSpace:
    """Against what is set."""

    @pytest.mark.parametrize("name", list(ROOMS))
    def test_decay(self, name):
        """Octave by octave within 5 % of the set one; in the middle that is the figure itself."""
        found = np.array([decay_s(impulses(name), each) for each in OCTAVES_HZ])
        wanted = decay_curve_s(ROOMS[name], OCTAVES_HZ, RATE)
        assert found == pytest.approx(wanted, rel=0.05)
        flat = ROOMS[name].replace(lows=1.0, highs=1.0)
        assert decay_curve_s(flat, OCTAVES_HZ, RATE) == pytest.approx(flat.decay_s, rel=1e-3)

    @pytest.mark.parametrize("name", ["first", "plate", "small room"])
    def test_dense_soon(self, name):
        """0.9 within 60 ms of the impulse, and it stays about there."""
        found = density(impulses(name)[0].astype(float))
        reached = np.flatnonzero(found > 0.9)[0]
        assert reached < 0.060 * RATE
        assert np.mean(found[int(0.08 * RATE) : int(0.3 * RATE)]) == pytest.approx(1.0, abs=0.1)

    @pytest.mark.parametrize("name", list(ROOMS))
    def test_no_flutter(self, name):
        """The tail's envelope repeats itself at no distance between 5 and 100 ms."""
        power = np.sum(impulses(name).astype(float)[:, int(0.1 * RATE) : int(0.6 * RATE)] ** 2, axis=0)
        steps = np.log(power.reshape(-1, RATE // 2000).sum(axis=1) + 1e-30)
        rest = signal.detrend(steps)
        against = np.correlate(rest, rest, "full")[rest.size - 1 :] / np.sum(rest**2)
        assert np.max(np.abs(against[10:200])) < 0.35

    @pytest.mark.parametrize("name", list(ROOMS))
    def test_mono_and_level(self, name):
        """Noise comes back within 2.5 dB of its level, and its mono sum within 1 dB."""
        noise = np.random.default_rng(5).standard_normal((2, 3 * RATE)).astype(np.float32)
        out = through(ROOMS[name], *noise)[-RATE:].astype(float)
        level = 10 * np.log10(np.mean(out**2))
        assert level == pytest.approx(0.0, abs=2.5)
        assert 10 * np.log10(np.mean(np.sum(out, axis=1) ** 2) / 2.0) == pytest.approx(level, abs=1.0)

    def test_width_share_and_pre_delay(self):
        """No width is mono, no share is the sound itself; nothing of the room is heard before its time."""
        x, y = drums(1), drums(2)
        narrow = through(SMALL_ROOM.replace(width=0.0), x, y)
        assert np.max(np.abs(narrow[:, 0] - narrow[:, 1])) < 1e-6
        assert np.array_equal(through(SMALL_ROOM.replace(share=0.0), x), x)
        late = through(SMALL_ROOM.replace(pre_delay_ms=50.0), np.eye(1, RATE, dtype=np.float32)[0])
        assert not late[:2400].any()
        assert late[2400] != 0.0

    @pytest.mark.parametrize("decay_s_", [0.1, 0.4, 2.0, 6.0])
    def test_whatever_its_size(self, decay_s_):
        """Its decay is what is set, it answers at once, no tone rings out of it, and its level stays within half a decibel, from 3 m to 30 m."""
        levels = []
        for size_m in (3.0, 8.0, 17.0, 30.0):
            room = Space(on=True, pre_delay_ms=20.0, decay_s=decay_s_, size_m=size_m, highs=1.0)
            one = np.zeros(int((1.3 * room.rings_s() + 0.3) * RATE), np.float32)
            one[0] = 1.0
            found = through(room, one, np.zeros_like(one)).T.astype(float)
            assert decay_s(found, 2000.0) == pytest.approx(decay_s_, rel=0.05 if decay_s_ > 0.2 else 0.3)
            assert np.flatnonzero(np.abs(found).max(axis=0) > 1e-3)[0] == pytest.approx(0.020 * RATE, abs=2)
            hz = np.fft.rfftfreq(one.size, 1 / RATE)
            level_db = 20 * np.log10(np.abs(np.fft.rfft(found[0]))[(hz > 300) & (hz < 8000)])
            assert np.std(level_db) < 7.6  # 5.6 of Gaussian noise; a room of 3 m with 6 s had more than 8
            levels.append(10 * np.log10(np.sum(found**2)))
        assert max(levels) - min(levels) < 0.5

    def test_it_ends(self):
        """As it says it rings: 60 dB down then, and exactly silent at last, without slow numbers."""
        room = SMALL_ROOM.replace(decay_s=0.2)
        out = through(room, np.concatenate([np.ones(100), np.zeros(6 * RATE)]).astype(np.float32))
        there = int(room.rings_s() * RATE)
        assert 10 * np.log10(np.mean(out[there : there + 2400] ** 2) / np.mean(out[1000:3400] ** 2)) < -45.0
        assert not out[-100:].any()

    def test_against_the_books(self):
        """A matrix, lines and filters in double precision, sample by sample."""
        x = drums(4)[:7000]
        for rate in (44_100, 96_000):
            mine = Space(
                on=True,
                pre_delay_ms=7.0,
                decay_s=0.7,
                lows=1.4,
                highs=0.3,
                size_m=6.0,
                low_cut_hz=150.0,
                high_cut_hz=7000.0,
                share=0.6,
            )
            assert residual_db(through(mine, x, rate=rate), space.oracle(x, mine, rate)) < -110.0
