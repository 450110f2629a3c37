"""Bands of the equaliser that move with a level: at rest the static ones, moved by what the closed form says, in the times that were set."""

import numpy as np
import pytest

from arkund.core.dsp import filters
from arkund.core.errors import SettingsError
from arkund.core.tools import tone
from arkund.core.tools.plain import residual_db
from arkund.core.tools.tone import Band, Tone, moved_curve_db, moved_db
from arkund.core.tools.tool import Key
from tests.core.dsp.test_filters import prototype
from tests.seeds import seeds
from tests.stages import RATE, through

KINDS = ("bell", "low_shelf", "high_shelf")


def sine(hz: float, level_db: float, seconds: float = 1.0, rate: int = RATE) -> np.ndarray:
    t = np.arange(round(seconds * rate)) / rate
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t)).astype(np.float32)


def moving(kind: str = "bell", **more) -> Tone:
    return Tone(
        bands=(Band(**({"kind": kind, "frequency_hz": 200.0, "range_db": -12.0, "threshold_db": -30.0} | more)),)
    )


def level_db(x: np.ndarray) -> float:
    return float(10 * np.log10(2 * np.mean(np.square(x, dtype=float))))


class TestAtRest:
    """Below its threshold."""

    @pytest.mark.parametrize("kind", KINDS)
    @pytest.mark.parametrize("gain_db", [0.0, 5.0])
    def test_the_static_one(self, kind, gain_db):
        """The same bytes as the band without a range, whatever the range."""
        x = (1e-4 * np.random.default_rng(4).standard_normal(20_000)).astype(np.float32)
        band = Band(kind=kind, frequency_hz=300.0, gain_db=gain_db, threshold_db=-20.0, range_db=9.0)
        assert np.array_equal(through(Tone(bands=(band,)), x), through(Tone(bands=(band.replace(range_db=0.0),)), x))

    def test_one_lane_moves_alone(self):
        """A band that moves in one strip leaves the one beside it in the bank as it is."""
        x = sine(200.0, -6.0)
        from tests.stages import row_through

        both = row_through([[moving()], [Tone(bands=(Band(gain_db=3.0),))]], [x, x])
        assert np.array_equal(both[:, 1], through(Tone(bands=(Band(gain_db=3.0),)), x))
        assert np.array_equal(both[:, 0], through(moving(), x))


class TestMoved:
    """A dB for each dB above the threshold, up to the range."""

    @pytest.mark.parametrize("range_db", [-12.0, 12.0, -3.0, 20.0])
    @pytest.mark.parametrize("hz", [40.0, 200.0, 3000.0])
    @pytest.mark.parametrize("over_db", [-2.0, 4.0, 30.0])
    def test_a_bell_at_its_middle(self, hz, over_db, range_db):
        """A steady tone at its frequency is moved by the closed form within a tenth of a decibel."""
        x = sine(hz, -30.0 + over_db, 2.0)
        band = Band(frequency_hz=hz, q=2.0, range_db=range_db, threshold_db=-30.0, attack_ms=2.0, release_ms=60.0)
        y = through(Tone(bands=(band,)), x)
        wanted = float(moved_db(band, np.array(-30.0 + over_db)))
        assert wanted == pytest.approx(np.sign(range_db) * min(max(over_db, 0.0), abs(range_db)))
        assert level_db(y[RATE:]) - level_db(x[RATE:]) == pytest.approx(wanted, abs=0.1)

    @pytest.mark.parametrize(("kind", "hz", "far_hz"), [("low_shelf", 20.0, 4000.0), ("high_shelf", 15_000.0, 20.0)])
    def test_a_shelf(self, kind, hz, far_hz):
        """Fully moved it lifts what lies on its side by its range, and leaves the other side."""
        tool = moving(kind, range_db=9.0, threshold_db=-60.0, release_ms=400.0)
        x, far = sine(hz, -6.0, 2.0), sine(far_hz, -40.0, 2.0)
        moved = through(tool, x + far)
        beat = lambda y, f: abs(np.sum(y[RATE:] * np.exp(-2j * np.pi * f * np.arange(RATE) / RATE)))
        assert 20 * np.log10(beat(moved, hz) / beat(x + far, hz)) == pytest.approx(9.0, abs=0.25)
        assert 20 * np.log10(beat(moved, far_hz) / beat(x + far, far_hz)) == pytest.approx(0.0, abs=0.3)

    @pytest.mark.parametrize("kind", KINDS)
    @pytest.mark.parametrize("range_db", [-12.0, 12.0])
    def test_the_drawn_curve(self, kind, range_db):
        """Held open by a strike, it has the curve that is drawn for it where it has moved as far as it may, and a shelf is monotonic."""
        tool = moving(kind, range_db=range_db, threshold_db=-40.0, release_ms=2000.0, attack_ms=0.1, gain_db=3.0)
        tool = tool.replace(key=Key(of="hits:kick"))
        impulse = np.zeros(1 << 16, np.float32)
        impulse[4800] = 1.0
        y = through(tool, impulse, key=np.ones(impulse.size, np.float32)).astype(float)
        hz = np.geomspace(30, 15_000, 60)
        got = np.abs(np.array([np.sum(y * np.exp(-2j * np.pi * f * np.arange(y.size) / RATE)) for f in hz]))
        assert 20 * np.log10(got) == pytest.approx(moved_curve_db(tool, hz, RATE), abs=0.05)
        shelf = tool.replace(bands=(tool.bands[0].replace(gain_db=0.0, q=0.7),))
        steps = np.diff(moved_curve_db(shelf, hz, RATE))
        assert kind == "bell" or (steps * np.sign(range_db) * (1 if kind == "high_shelf" else -1) >= -1e-9).all()

    @pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
    @pytest.mark.parametrize("kind", KINDS)
    def test_the_static_one_of_that_gain(self, kind, rate):
        """Moved all the way it follows the analogue curve of a band of its range within 0.3 dB up to 20 kHz, wherever it is tuned."""
        rng, axis_hz = np.random.default_rng(rate + len(kind)), np.geomspace(20.0, 20_000.0, 400)
        for _ in range(12):
            hz, range_db = float(np.exp(rng.uniform(np.log(40), np.log(18_000)))), float(rng.uniform(-15, 15))
            q = float(rng.uniform(0.4, 1.2) if kind != "bell" else np.exp(rng.uniform(np.log(0.4), np.log(8))))
            band = Band(kind=kind, frequency_hz=hz, q=q, range_db=range_db)
            wanted = filters.analogue_db(*prototype(kind, range_db, q), axis_hz, hz)
            assert moved_curve_db(Tone(bands=(band,)), axis_hz, rate) == pytest.approx(wanted, abs=0.3)

    @pytest.mark.parametrize("kind", KINDS)
    def test_half_way(self, kind):
        """Moved half its range it is near the static band of half the gain: within a twelfth of its range."""
        for hz, range_db in ((90.0, -12.0), (900.0, 12.0), (12_000.0, -8.0)):
            mine, axis_hz = (
                tone.swaying(moving(kind, frequency_hz=hz, range_db=range_db, q=0.7).bands[0], RATE),
                np.geomspace(20.0, 20_000.0, 300),
            )
            got = 20 * np.log10(np.abs(mine.response(range_db / 2, axis_hz, RATE)))
            wanted = filters.analogue_db(*prototype(kind, range_db / 2, 0.7), axis_hz, hz)
            assert np.abs(got - wanted).max() < abs(range_db) / 12

    def test_a_move_undoes_a_gain(self):
        """A band at 9 dB that has moved by as much the other way leaves what comes in."""
        for kind in KINDS:
            tool = moving(kind, gain_db=9.0, range_db=-9.0, q=0.7)
            assert moved_curve_db(tool, np.geomspace(20, 20_000, 200), RATE) == pytest.approx(0.0, abs=0.2)


class TestTimes:
    """Attack and release of the move, in dB."""

    @pytest.mark.parametrize("time_ms", [5.0, 50.0, 150.0])
    def test_attack_and_release(self, time_ms):
        """63 % of the way within the time, five per cent at most beside it."""
        tool = moving(
            range_db=-12.0, threshold_db=-60.0, attack_ms=time_ms, release_ms=time_ms, q=0.5, frequency_hz=1000.0
        )
        tool = tool.replace(key=Key(of="hits:kick"))
        key = np.zeros(4 * RATE, np.float32)
        key[RATE : 2 * RATE + RATE // 2] = 1.0
        x = sine(1000.0, -20.0, 4.0)
        y = through(tool, x, key=key)
        moved = 20 * np.log10(np.abs(_analytic(y)) / np.abs(_analytic(x)))
        for begin in (RATE, 2 * RATE + RATE // 2):
            start, end = moved[begin - 100], moved[begin + RATE + RATE // 4]
            assert abs(end - start) == pytest.approx(12.0, abs=0.3)
            part = (moved[begin : begin + RATE] - start) / (end - start)
            at_ms = 1000 * int(np.argmax(part >= 1 - np.exp(-1))) / RATE
            assert at_ms == pytest.approx(time_ms, rel=0.05, abs=0.6)

    def test_no_step(self):
        """The gain never jumps: a sample moves it no further than the attack's share of the range."""
        tool = moving(range_db=-24.0, threshold_db=-90.0, attack_ms=1.0).replace(key=Key(of="hits:kick"))
        key = np.zeros(RATE, np.float32)
        key[20_000:] = 1.0
        y = through(tool, sine(200.0, 0.0), key=key)
        moved = 20 * np.log10(np.abs(_analytic(y)) / np.abs(_analytic(sine(200.0, 0.0))))[19_000:40_000]
        assert np.abs(np.diff(moved)).max() <= 24.0 / 48.0 * 1.5


def _analytic(x: np.ndarray) -> np.ndarray:
    from scipy.signal import hilbert

    return hilbert(np.asarray(x, float))


class TestHeard:
    """What it listens to."""

    def test_another_strip(self):
        """A band opened by a kick elsewhere moves at its hits alone; the detector hears the band of the key, not all of it."""
        x = sine(200.0, -20.0, 2.0)
        key = np.zeros(x.size, np.float32)
        key[RATE:] = sine(200.0, -6.0)
        tool = moving(range_db=6.0).replace(key=Key(of="mic:kd"))
        y = through(tool, x, key=key)
        assert np.array_equal(y[: RATE - 10], x[: RATE - 10])
        assert level_db(y[-RATE // 2 :]) - level_db(x[-RATE // 2 :]) == pytest.approx(6.0, abs=0.1)
        high = np.zeros(x.size, np.float32)
        high[RATE:] = sine(9000.0, -6.0)
        assert np.abs(through(tool, x, key=high) - x).max() < 1e-3

    @pytest.mark.parametrize("seed", seeds(11, 12, 13))
    @pytest.mark.parametrize("kind", KINDS)
    def test_against_the_plain_loop(self, seed, kind):
        """On noise with bursts, of its own and of a key, two bands that move beside one that does not."""
        rng = np.random.default_rng(seed)
        x = (rng.standard_normal(3000) * 0.2 * (1 + 3 * (np.arange(3000) % 2000 < 300))).astype(np.float32)
        key = (rng.standard_normal(3000) * 0.3).astype(np.float32)
        bands = (
            Band(kind=kind, frequency_hz=float(rng.uniform(60, 4000)), gain_db=3.0, range_db=-9.0, threshold_db=-30.0),
            Band(gain_db=-4.0),
            Band(frequency_hz=700.0, range_db=7.0, threshold_db=-24.0, attack_ms=0.5),
        )
        for of, heard in (("", None), ("mic:kd", key), ("hits:kick", np.abs(key))):
            tool = Tone(bands=bands, key=Key(of=of, low_hz=50.0))
            assert residual_db(through(tool, x, key=heard), tone.oracle(x, tool, RATE, heard)) < -100.0

    def test_linked(self):
        """Both sides of a stereo strip move by the louder one."""
        loud, soft = sine(200.0, -10.0), sine(200.0, -50.0)
        y = through(moving(range_db=-12.0), loud, soft)
        assert level_db(y[RATE // 2 :, 1]) - level_db(soft[RATE // 2 :]) == pytest.approx(-12.0, abs=0.1)


class TestResonance:
    """High- and low-pass with a resonance, and the bump."""

    @pytest.mark.parametrize("kind", ["high_pass", "low_pass"])
    @pytest.mark.parametrize("slope_db", [12, 24, 48])
    def test_at_its_frequency(self, kind, slope_db):
        """So much more than 3 dB down."""
        for resonance_db in (0.0, 6.0, 15.0):
            band = Band(kind=kind, frequency_hz=300.0, slope_db=slope_db, resonance_db=resonance_db)
            got = tone.curve_db(Tone(bands=(band,)), np.array([300.0]), RATE)[0]
            assert got == pytest.approx(-3.01 + resonance_db, abs=0.35)

    def test_compensated(self):
        """Pink noise is as loud with the resonance as without."""
        rng = np.random.default_rng(5)
        spectrum = np.fft.rfft(rng.standard_normal(1 << 18))
        hz = np.fft.rfftfreq(1 << 18, 1 / RATE)
        pink = np.fft.irfft(np.where((hz > 20) & (hz < 20_000), spectrum / np.sqrt(np.maximum(hz, 1)), 0))
        pink = (0.1 * pink / pink.std()).astype(np.float32)
        plain, with_it, equal = (
            level_db(through(Tone(bands=(Band(kind="high_pass", frequency_hz=60.0, slope_db=24, **more),)), pink))
            for more in ({}, {"resonance_db": 12.0}, {"resonance_db": 12.0, "compensated": True})
        )
        assert with_it - plain > 0.5
        assert equal == pytest.approx(plain, abs=0.15)

    def test_bump(self):
        """Lifts below, dips above, leaves the rest."""
        bump = Tone(bands=(Band(kind="bump", frequency_hz=60.0, gain_db=6.0),))
        low, dip, high = tone.curve_db(bump, np.array([30.0, 60.0 * 2**1.3, 2000.0]), RATE)
        assert low > 4.5
        assert dip < -1.0
        assert abs(high) < 0.3

    @pytest.mark.parametrize(
        ("more", "words"),
        [
            ({"kind": "high_pass", "range_db": 3.0}, "a high-pass does not move"),
            ({"kind": "bump", "range_db": 3.0}, "a bump does not move"),
            ({"kind": "bell", "resonance_db": 3.0}, "only high- and low-pass"),
            ({"kind": "low_pass", "slope_db": 6, "resonance_db": 3.0}, "12 dB/octave and more"),
            ({"range_db": 40.0}, "outside -24 to 24 dB"),
            ({"attack_ms": 0.0, "range_db": 3.0}, "outside 0.1 to 200 ms"),
            ({"threshold_db": 3.0}, "outside -90 to 0 dB"),
        ],
    )
    def test_refused(self, more, words):
        """With what and where."""
        with pytest.raises(SettingsError, match=words):
            Band(**more)
