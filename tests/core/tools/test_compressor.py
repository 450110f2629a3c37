"""The compressor against its static curve, its time constants, and a plain loop in double precision."""

import numpy as np
import pytest

from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.tools import compressor
from arkund.core.tools.compressor import Compressor, static_reduction_db
from arkund.core.tools.tool import Key
from tests.core.dsp.test_bank import drums
from tests.stages import RATE, gain_of, through


def gain_db(x: np.ndarray, s: Compressor) -> np.ndarray:
    return 20 * np.log10(gain_of(s, x.astype(np.float32)))


class TestStaticCurve:
    """(L - T)(1 - 1/R) above the knee."""

    @pytest.mark.parametrize("ratio", [1.5, 4.0, 20.0])
    @pytest.mark.parametrize("knee_db", [0.0, 6.0])
    @pytest.mark.parametrize("level_db", [-30.0, -20.5, -19.0, -12.0, -3.0])
    def test_settled_reduction(self, ratio, knee_db, level_db):
        """A steady level settles on the curve within 0.02 dB."""
        s = Compressor(on=True, threshold_db=-20.0, ratio=ratio, knee_db=knee_db, attack_ms=1.0, release_ms=5.0)
        x = np.full(RATE // 2, 10 ** (level_db / 20))
        assert -gain_db(x, s)[-1] == pytest.approx(float(static_reduction_db(level_db, s)), abs=0.02)

    def test_four_to_one_lets_one_out(self):
        """12 dB over the threshold at 4:1 leaves 3."""
        s = Compressor(on=True, threshold_db=-20.0, ratio=4.0, knee_db=0.0)
        assert static_reduction_db(np.array([-8.0]), s) == pytest.approx([9.0])

    def test_make_up(self):
        """Below the threshold only the make-up is left."""
        s = Compressor(on=True, threshold_db=-10.0, makeup_db=4.0)
        assert gain_db(np.full(4800, 0.01), s)[-1] == pytest.approx(4.0, abs=1e-3)


class TestTimes:
    """63 % of the way after the attack and the release."""

    @pytest.mark.parametrize("attack_ms", [1.0, 10.0, 30.0])
    def test_attack(self, attack_ms):
        """Within 1 % of 1 - 1/e."""
        s = Compressor(on=True, threshold_db=-20.0, ratio=10.0, knee_db=0.0, attack_ms=attack_ms, release_ms=100.0)
        x = np.concatenate([np.full(4800, 1e-4), np.full(RATE, 0.5)])
        reduction = -gain_db(x, s)
        at = 4800 + int(attack_ms * RATE / 1000)
        assert reduction[at] / reduction[-1] == pytest.approx(1 - np.exp(-1), abs=0.01)

    @pytest.mark.parametrize("release_ms", [50.0, 200.0])
    def test_release(self, release_ms):
        """Within 1 % of 1/e left."""
        s = Compressor(on=True, threshold_db=-20.0, ratio=10.0, knee_db=0.0, attack_ms=1.0, release_ms=release_ms)
        x = np.concatenate([np.full(RATE, 0.5), np.full(RATE, 1e-4)])
        reduction = -gain_db(x, s)
        at = RATE + int(release_ms * RATE / 1000)
        assert reduction[at] / reduction[RATE - 1] == pytest.approx(np.exp(-1), abs=0.01)


class TestRange:
    """Never more than so much."""

    def test_stops_there(self):
        """18 dB over the threshold at 10:1 would take 16.2 dB; it takes 6, and below that what the curve says."""
        s = Compressor(on=True, threshold_db=-20.0, ratio=10.0, knee_db=0.0, attack_ms=1.0, range_db=6.0)
        levels = 10 ** (np.array([-2.0, -15.0]) / 20)
        got = [-gain_db(np.full(9600, level), s)[-1] for level in levels]
        assert got == pytest.approx([6.0, 4.5], abs=0.02)


class TestReleaseByItself:
    """Two followers of the same curve, the second charged slowly: the closed form of a peak that stands for a time."""

    @pytest.mark.parametrize("lasts_ms", [10.0, 100.0, 400.0, 3000.0])
    def test_closed_form(self, lasts_ms):
        """After D ms over the threshold what is left at t is the larger of R exp(-t/T) and R (1 - exp(-D/4T)) exp(-t/10T), within 0.15 dB."""
        release_ms, wanted_db = 50.0, 9.0
        s = Compressor(on=True, threshold_db=-20.0, ratio=4.0, knee_db=0.0, attack_ms=0.1, release_ms=release_ms)
        long = round(lasts_ms * RATE / 1000)
        x = np.concatenate([np.full(long, 10 ** (-8 / 20)), np.full(RATE, 1e-4)])
        left = -gain_db(x, s.replace(release_by="itself"))
        for t_ms in (5.0, 50.0, 150.0, 400.0, 800.0):
            fast = wanted_db * np.exp(-t_ms / release_ms)
            charged = 1.0 - np.exp(-lasts_ms / (4.0 * release_ms))
            slow = wanted_db * charged * np.exp(-t_ms / (10.0 * release_ms))
            assert left[long + round(t_ms * RATE / 1000)] == pytest.approx(max(fast, slow), abs=0.15)

    def test_a_short_peak_is_let_go_as_set(self):
        """Down to a tenth, a click of 2 ms is let go as by the time alone."""
        s = Compressor(on=True, threshold_db=-20.0, ratio=4.0, knee_db=0.0, attack_ms=0.1, release_ms=80.0)
        x = np.concatenate([np.full(96, 10 ** (-8 / 20)), np.full(RATE // 4, 1e-4)])
        set_, itself = (-gain_db(x, s.replace(release_by=by)) for by in ("time", "itself"))
        high = set_ > 0.9
        assert high.sum() > 0.1 * RATE
        assert np.allclose(set_[high], itself[high], atol=1e-3)


class TestMeanSquare:
    """The mean of squares over a time, one pole."""

    @pytest.mark.parametrize("level_db", [-3.0, -12.0])
    def test_a_sine_counts_3_db_less_than_its_peak(self, level_db):
        """Its mean square lies 3.01 dB below: the reduction is the curve's there within 0.1 dB."""
        t = np.arange(RATE) / RATE
        s = Compressor(on=True, threshold_db=-30.0, ratio=4.0, knee_db=0.0, attack_ms=1.0, average_ms=50.0)
        x = 10 ** (level_db / 20) * np.sin(2 * np.pi * 1000 * t)
        taken = -gain_db(x, s)[-4800:].mean()
        assert taken == pytest.approx(float(static_reduction_db(level_db - 3.0103, s)), abs=0.1)

    @pytest.mark.parametrize("average_ms", [5.0, 40.0])
    def test_its_time(self, average_ms):
        """A step's mean square is 1 - exp(-t/T) of the whole: the reduction follows within 0.2 dB, with an attack that is far quicker."""
        s = Compressor(on=True, threshold_db=-40.0, ratio=50.0, knee_db=0.0, attack_ms=0.05, average_ms=average_ms)
        x = np.concatenate([np.full(480, 1e-4), np.full(RATE // 2, 0.5)])
        taken = -gain_db(x, s)
        for times in (0.5, 1.0, 2.0):
            level_db = 20 * np.log10(0.5) + 10 * np.log10(1 - np.exp(-times))
            at = 480 + round(times * average_ms * RATE / 1000)
            assert taken[at] == pytest.approx(float(static_reduction_db(level_db, s)), abs=0.2)


class TestLookAhead:
    """The detector hears what is still to come."""

    def test_the_same_gain_earlier(self):
        """By 2 ms, to the sample; from the first sample on as if silence had come before."""
        s = Compressor(on=True, threshold_db=-30.0, ratio=8.0, attack_ms=0.5, release_ms=60.0)
        x = drums(5)
        plain, early = gain_of(s, x), gain_of(s.replace(lookahead_ms=2.0), x)
        assert np.allclose(early[:-96], plain[96:], rtol=1e-5)


class TestTilt:
    """The key's top against its bottom."""

    def test_through_nothing_at_its_middle(self):
        """6 dB of tilt: the top counts 6 dB more within 0.5 dB, the bottom as much less, 800 Hz as it is; a steady tone of 60 Hz is taken less."""
        from arkund.core.dsp.filters import magnitude_db

        s = Compressor(on=True, threshold_db=-30.0, ratio=4.0, key=Key(tilt_db=6.0))
        found = magnitude_db(s.detector(RATE), np.array([25.0, 800.0, 18_000.0]), RATE)
        assert found == pytest.approx([-6.0, 0.0, 6.0], abs=0.5)
        low = 0.5 * np.sin(2 * np.pi * 60 * np.arange(RATE) / RATE)
        assert gain_db(low, s)[-1] > gain_db(low, s.replace(key=Key()))[-1] + 2.0


class TestDetector:
    """Key filters, keys from elsewhere, and stereo strips."""

    def test_high_passed_detector_ignores_the_kick(self):
        """50 Hz at full level no longer pumps."""
        t = np.arange(RATE) / RATE
        low = 0.5 * np.sin(2 * np.pi * 50 * t)
        wide = Compressor(on=True, threshold_db=-30.0, ratio=10.0)
        assert gain_db(low, wide)[-1] < -8
        assert gain_db(low, wide.replace(key=Key(low_hz=400.0)))[-1] > -1.0

    def test_only_the_end_of_the_range_hears_everything(self):
        """One Hz inside of it there is a filter."""
        assert Compressor(key=Key(low_hz=20.0)).detector(RATE) == ()
        assert len(Compressor(key=Key(low_hz=21.0)).detector(RATE)) == 1

    def test_a_foreign_key(self):
        """What it hears is not what it lowers: by itself a soft tone passes, under a loud key it is held down."""
        soft, loud = np.full(9600, 0.01, np.float32), np.full(9600, 0.8, np.float32)
        s = Compressor(on=True, threshold_db=-20.0, ratio=8.0)
        assert np.allclose(through(s, soft, key=loud), soft)
        keyed = through(s.replace(key=Key(of="mic:snare")), soft, key=loud)
        assert keyed[-1] / soft[-1] == pytest.approx(gain_of(s, loud)[-1], rel=1e-5)

    def test_a_stereo_strip_moves_together(self):
        """A hit on the left lowers both sides by the same gain; half of the share leaves half of it dry."""
        left, right = np.full(9600, 0.8, np.float32), np.full(9600, 0.05, np.float32)
        s = Compressor(on=True, threshold_db=-20.0, ratio=8.0)
        linked = through(s, left, right) / np.stack([left, right], axis=1)
        assert np.allclose(linked, gain_of(s, left)[:, None], rtol=1e-5)
        assert through(s, right)[-1] == pytest.approx(0.05, rel=1e-5)
        half = through(s.replace(share=0.5), left, right)
        assert np.allclose(half[:, 0], left * (0.5 * linked[:, 0] + 0.5), rtol=1e-6)

    @pytest.mark.parametrize("times", [{"attack_ms": 3.0, "release_ms": 60.0}, {"attack_ms": 30.0, "release_ms": 5.0}])
    @pytest.mark.parametrize("low_hz", [20.0, 120.0])
    def test_a_stereo_strip_in_pieces(self, low_hz, times):
        """The louder side leads sample by sample, and the pieces' borders do not show."""
        rng = np.random.default_rng(4)
        fall = np.exp(-(np.arange(30_000) % 9000) / 1500)[:, None]
        stereo = (rng.standard_normal((30_000, 2)) * fall).astype(np.float32)
        s = Compressor(on=True, threshold_db=-25.0, ratio=5.0, key=Key(low_hz=low_hz), **times)
        whole = through(s, *stereo.T)
        bank = bank_of(list(stereo.T))
        run = compressor.Run([s, s], RATE, bank.shape[1], linked=True)
        for part in np.array_split(bank, [256, 8192, 8704]):
            run.run(part, part.shape[0])
        assert np.abs(bank[:, :2] - whole).max() < 1e-6
        key = np.abs(filter_bank(bank_of(list(stereo.T)), [s.detector(RATE)] * 2)[:, :2]).max(axis=1)
        gain = gain_of(s.replace(key=Key()), key)[:, None]
        assert np.abs(whole - stereo * gain).max() < 1e-5


class TestAgainstThePlainLoop:
    """Sample by sample in double precision."""

    @pytest.mark.parametrize(
        ("seed", "more"),
        [
            (21, {}),
            (22, {"range_db": 7.0, "lookahead_ms": 1.3}),
            (23, {"release_by": "itself", "average_ms": 4.0}),
            (24, {"release_by": "itself", "lookahead_ms": 5.0, "key": Key(low_hz=90.0, tilt_db=-4.0)}),
        ],
    )
    def test_equal(self, seed, more):
        """Knee, attack, release, make-up, share and the rest: the same within 3e-5."""
        rng = np.random.default_rng(seed)
        s = Compressor(
            on=True,
            threshold_db=float(rng.uniform(-40, -10)),
            ratio=float(rng.uniform(1.5, 20)),
            knee_db=float(rng.uniform(0.5, 12)),
            attack_ms=float(rng.uniform(0.1, 30)),
            release_ms=float(rng.uniform(10, 400)),
            makeup_db=3.0,
            share=float(rng.uniform(0.3, 1.0)),
            **more,
        )
        x = drums(seed)
        wanted = compressor.oracle(np.ones(x.size), s, RATE, x)
        assert np.max(np.abs(gain_of(s, x) / wanted - 1)) < 3e-5

    def test_a_lane_does_not_know_its_neighbours(self):
        """Beside one that averages, lingers and looks ahead, a plain one gives the very same bytes."""
        x, plain = drums(31), Compressor(on=True, threshold_db=-28.0, ratio=5.0)
        other = plain.replace(release_by="itself", average_ms=10.0)
        banks = [bank_of([x, x]), bank_of([x, x])]
        for bank, tools in zip(banks, ([plain, plain], [plain, other]), strict=True):
            compressor.Run(tools, RATE, bank.shape[1]).run(bank, bank.shape[0])
        assert np.array_equal(banks[0][:, 0], banks[1][:, 0])
        assert not np.array_equal(banks[0][:, 1], banks[1][:, 1])
