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

    @pytest.mark.parametrize("seed", [21, 22, 23])
    def test_equal(self, seed):
        """Knee, attack, release, make-up and share: the same within 3e-5."""
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
        )
        x = drums(seed)
        wanted = compressor.oracle(np.ones(x.size), s, RATE, x)
        assert np.max(np.abs(gain_of(s, x) / wanted - 1)) < 3e-5
