"""Kernels in lock-step against plain sample-by-sample loops, and the bounds of their polynomials."""

import numpy as np
import pytest

from arkund.core.clean.process import gate_gain
from arkund.core.clean.settings import GateSettings
from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import NARROW, WIDE, bank_of, empty_bank, filter_bank
from arkund.core.dsp.filters import bell, high_pass
from arkund.core.errors import AudioError
from arkund.core.plan.plan import MicPlan
from arkund.core.punch import process as punch
from arkund.core.punch.settings import CompressorSettings, ShaperSettings
from arkund.core.render import reference
from arkund.core.render.strips import Strips
from arkund.core.tone.settings import Band, ToneSettings
from tests.stages import compressor_gain, through

RATE = 48_000


def drums(seed: int, seconds: float = 0.5) -> np.ndarray:
    """A few decaying bursts of noise over a soft floor."""
    rng = np.random.default_rng(seed)
    n = int(seconds * RATE)
    out = rng.standard_normal(n) * 0.001
    for at in rng.integers(0, n, 5):
        t = np.arange(n - at) / RATE
        out[at:] += rng.uniform(0.1, 0.9) * rng.standard_normal(n - at) * np.exp(-t / rng.uniform(0.01, 0.06))
    return out.astype(np.float32)


class TestPolynomials:
    """log2 and exp2 stay within the stated bounds."""

    def test_log2(self):
        """Within 2e-5 octaves (0.00012 dB) from -180 dB to +12 dB."""
        values = np.geomspace(1e-9, 4.0, 300_000).astype(np.float32)
        logs, powers = np.zeros_like(values), np.zeros_like(values)
        _kernels.polynomials(values, logs, powers)
        assert np.max(np.abs(logs - np.log2(values.astype(float) + 1e-9))) < 2e-5

    def test_exp2(self):
        """Within 1e-5 of the value from -40 to 40 octaves."""
        values = np.linspace(-40.0, 40.0, 300_001).astype(np.float32)
        logs, powers = np.zeros_like(values), np.zeros_like(values)
        _kernels.polynomials(values, logs, powers)
        assert np.max(np.abs(powers / np.exp2(values.astype(float)) - 1.0)) < 1e-5


class TestBank:
    """Channels side by side do not hear each other, and the width does not matter."""

    def test_width(self):
        """Few channels take a narrow bank."""
        assert empty_bank(10, 2).shape == (10, NARROW)
        assert empty_bank(10, 5).shape == (10, 8)
        assert empty_bank(10, 9).shape == (10, WIDE)

    @pytest.mark.parametrize("count", [0, 17])
    def test_too_many(self, count):
        """A bank holds 1 to 16 channels."""
        with pytest.raises(AudioError, match="1 to 16"):
            empty_bank(10, count)

    def test_narrow_equals_wide(self):
        """The same channel gives the same samples in either width."""
        x = drums(1)
        sections = [bell(200.0, 6.0, 2.0, RATE), *high_pass(60.0, 4, RATE)]
        gate, shaper = (
            GateSettings(on=True, threshold_db=-30.0),
            ShaperSettings(on=True, attack_db=7.0, sustain_db=-5.0),
        )
        compressor = CompressorSettings(on=True, threshold_db=-30.0, detector_low_hz=200.0)

        def chain(count: int) -> np.ndarray:
            bank = filter_bank(bank_of([x] * count), [sections] * count)
            bank[:, :count] *= gate_gain(bank, [gate] * count, RATE)[:, :count]
            bank = through(punch.Shaper([shaper] * count, RATE, bank.shape[1]), bank)
            return through(punch.Compressor([compressor] * count, RATE, bank.shape[1]), bank)

        narrow = chain(1)[:, 0]
        for count in (3, 5, 9, 16):
            assert all(np.array_equal(narrow, lane) for lane in chain(count)[:, :count].T)

    def test_cascades_of_different_length(self):
        """A channel with fewer sections passes the rest unchanged."""
        x = drums(2)
        out = filter_bank(bank_of([x, x]), [[bell(300.0, 5.0, 1.0, RATE)], []])
        assert np.array_equal(out[:, 1], x)
        assert not np.allclose(out[:, 0], x)

    def test_the_input_is_left_alone(self):
        """Processing returns a new array."""
        bank = bank_of([drums(3)])
        before = bank.copy()
        filter_bank(bank, [[bell(300.0, 5.0, 1.0, RATE)]])
        gate_gain(bank, [GateSettings(on=True, key_low_hz=100.0)], RATE)
        compressor_gain(bank, [CompressorSettings(on=True, threshold_db=-40.0, detector_low_hz=100.0)], RATE)
        assert np.array_equal(bank, before)

    def test_silence_after_sound_becomes_exact_zero(self):
        """States are flushed before they become denormal."""
        x = np.zeros(RATE * 4, np.float32)
        x[:100] = 0.5
        out = filter_bank(bank_of([x]), [[bell(60.0, 6.0, 1.0, RATE)]])
        assert np.all(out[-RATE:, 0] == 0.0)


def strip_of(seed: int, lane: int) -> MicPlan:
    """A mic with everything on, at random."""
    rng = np.random.default_rng([seed, lane])
    bands = tuple(
        Band(kind="bell", frequency_hz=float(rng.uniform(80, 9000)), gain_db=float(rng.uniform(-9, 9)), q=1.2)
        for _ in range(5)
    )
    return MicPlan(
        id=f"m{lane}",
        name=f"m{lane}",
        gate=GateSettings(on=True, threshold_db=-38.0, lookahead_ms=float(rng.choice([0.0, 1.5])), range_db=20.0),
        tone=ToneSettings(bands=(Band(kind="high_pass", frequency_hz=60.0, slope_db=24), *bands)),
        shaper=ShaperSettings(on=True, attack_db=4.0, sustain_db=-3.0),
        compressor=CompressorSettings(on=True, threshold_db=-20.0, ratio=4.0, detector_low_hz=80.0),
    )


class TestAgainstNaiveLoops:
    """The compiled kernels equal plain float64 loops within -90 dB."""

    @pytest.mark.parametrize("seed", [11, 12, 13])
    def test_gate(self, seed):
        """Threshold, hysteresis, hold, attack, release and range."""
        rng = np.random.default_rng(seed)
        s = GateSettings(
            on=True,
            threshold_db=float(rng.uniform(-40, -10)),
            hysteresis_db=float(rng.uniform(0, 8)),
            attack_ms=float(rng.uniform(0.05, 5)),
            hold_ms=float(rng.uniform(1, 50)),
            release_ms=float(rng.uniform(10, 200)),
            range_db=float(rng.uniform(6, 60)),
        )
        x = drums(seed)
        got = gate_gain(bank_of([x]), [s], RATE)[:, 0]
        assert np.max(np.abs(got - reference.gate_gain(x, s, RATE))) < 3e-4

    @pytest.mark.parametrize("seed", [21, 22, 23])
    def test_compressor(self, seed):
        """Knee, attack and release."""
        rng = np.random.default_rng(seed)
        s = CompressorSettings(
            on=True,
            threshold_db=float(rng.uniform(-40, -10)),
            ratio=float(rng.uniform(1.5, 20)),
            knee_db=float(rng.uniform(0.5, 12)),
            attack_ms=float(rng.uniform(0.1, 30)),
            release_ms=float(rng.uniform(10, 400)),
            makeup_db=3.0,
        )
        x = drums(seed)
        got = compressor_gain(bank_of([x]), [s], RATE)[:, 0]
        assert np.max(np.abs(got / reference.compressor_gain(x, s, RATE) - 1)) < 3e-5

    @pytest.mark.parametrize("seed", [31, 32])
    def test_shaper(self, seed):
        """Attack up, sustain down, and the other way round."""
        for s in (
            ShaperSettings(on=True, attack_db=9.0, sustain_db=-12.0),
            ShaperSettings(on=True, attack_db=-6.0, sustain_db=8.0),
        ):
            x = drums(seed)
            got = through(punch.Shaper([s], RATE, NARROW), bank_of([x]))[:, 0]
            wanted = reference.shaped(x, s, RATE)
            residual = np.sqrt(np.mean((got - wanted) ** 2) / np.mean(wanted**2))
            assert 20 * np.log10(residual) < -90


class TestWholeChain:
    """Gate, filters, shaper and compressor together."""

    @pytest.mark.parametrize("seed", [41, 42])
    def test_against_the_plain_loop(self, seed):
        """Sixteen mics side by side, each against itself sample by sample in double precision: -90 dB or better."""
        mics = [strip_of(seed, lane) for lane in range(16)]
        x = [drums(seed + lane)[: RATE // 2] for lane in range(16)]
        strips = Strips(mics, RATE)
        bank = np.concatenate([bank_of(x), np.zeros((strips.ahead, 16), np.float32)])
        got = strips.run(bank)
        for lane in (0, 5, 15):
            assert reference.residual_db(got[:, lane], reference.chain(x[lane], mics[lane], RATE)) < -90
