"""Kernels in lock-step against plain sample-by-sample loops, and the bounds of their polynomials."""

import numpy as np
import pytest

from arkund.core.clean.process import KEY_RELEASE_MS, LINGER_S, gate_gain
from arkund.core.clean.settings import GateSettings
from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import NARROW, WIDE, bank_of, coefficient, empty_bank, filter_bank, settle_samples
from arkund.core.dsp.filters import bell, high_pass
from arkund.core.errors import AudioError
from arkund.core.punch import process as punch
from arkund.core.punch.settings import CompressorSettings, ShaperSettings

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
        assert empty_bank(10, 5).shape == (10, WIDE)

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
            bank = punch.shape(bank, [shaper] * count, RATE)
            return punch.compress(bank, [compressor] * count, RATE)

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
        punch.compress(bank, [CompressorSettings(on=True, threshold_db=-40.0)], RATE)
        punch.shape(bank, [ShaperSettings(on=True, attack_db=6.0)], RATE)
        assert np.array_equal(bank, before)

    def test_silence_after_sound_becomes_exact_zero(self):
        """States are flushed before they become denormal."""
        x = np.zeros(RATE * 4, np.float32)
        x[:100] = 0.5
        out = filter_bank(bank_of([x]), [[bell(60.0, 6.0, 1.0, RATE)]])
        assert np.all(out[-RATE:, 0] == 0.0)


def naive_gate(x: np.ndarray, s: GateSettings) -> np.ndarray:
    env, is_open, hold, gain_db, lingered = 0.0, False, 0, -s.range_db, 0
    opens, closes = 10 ** (s.threshold_db / 20), 10 ** ((s.threshold_db - s.hysteresis_db) / 20)
    out = np.empty(x.size)
    ka, kr, kk = (coefficient(t, RATE) for t in (s.attack_ms, s.release_ms, KEY_RELEASE_MS))
    for i, v in enumerate(x):
        env = max(abs(v), env * kk, 1e-9)
        between = closes <= env <= opens
        lingered = lingered + 1 if between else 0
        if env > opens:
            is_open = True
        elif env < closes or lingered > LINGER_S * RATE:
            is_open = False
        hold = max(hold - 1, 0)
        if is_open:
            hold = s.hold_ms * RATE / 1000
        target = 0.0 if is_open or hold > 0.5 else -s.range_db
        k = ka if target > gain_db else kr
        gain_db = target + (gain_db - target) * k
        out[i] = 10 ** (gain_db / 20)
    return out


def naive_compressor(x: np.ndarray, s: CompressorSettings) -> np.ndarray:
    reduction, out = 0.0, np.empty(x.size)
    ka, kr = coefficient(s.attack_ms, RATE), coefficient(s.release_ms, RATE)
    for i, v in enumerate(x):
        over = 20 * np.log10(abs(v) + 1e-9) - s.threshold_db
        inside = over + s.knee_db / 2
        if inside > s.knee_db:
            curve = over
        elif inside > 0:
            curve = inside**2 / (2 * s.knee_db)
        else:
            curve = 0.0
        target = curve * (1 - 1 / s.ratio)
        reduction = target + (reduction - target) * (ka if target > reduction else kr)
        out[i] = 10 ** ((s.makeup_db - reduction) / 20)
    return out


def naive_shaper(x: np.ndarray, s: ShaperSettings) -> np.ndarray:
    fast = late = held = punch.SHAPER_FLOOR
    ka, kl = coefficient(punch.FAST_ATTACK_MS, RATE), coefficient(punch.SLOW_ATTACK_MS, RATE)
    kr, kh = coefficient(punch.FAST_RELEASE_MS, RATE), coefficient(punch.SLOW_RELEASE_MS, RATE)
    out = np.empty(x.size)
    for i, v in enumerate(x):
        level = abs(v) + punch.SHAPER_FLOOR
        fast = level + (fast - level) * (ka if level > fast else kr)
        late = level + (late - level) * (kl if level > late else kr)
        held = level + (held - level) * (ka if level > held else kh)
        onset = (
            np.clip(20 * np.log10(fast / late) - punch.STEADY_RATIO_DB, 0, punch.FULL_RATIO_DB) / punch.FULL_RATIO_DB
        )
        tail = np.clip(20 * np.log10(held / fast), 0, punch.FULL_RATIO_DB) / punch.FULL_RATIO_DB
        out[i] = v * 10 ** ((s.attack_db * onset + s.sustain_db * tail) / 20)
    return out


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
        assert np.max(np.abs(got - naive_gate(x, s))) < 3e-4

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
        got = punch.compressor_gain(bank_of([x]), [s], RATE)[:, 0]
        assert np.max(np.abs(got / naive_compressor(x, s) - 1)) < 3e-5

    @pytest.mark.parametrize("seed", [31, 32])
    def test_shaper(self, seed):
        """Attack up, sustain down, and the other way round."""
        for s in (
            ShaperSettings(on=True, attack_db=9.0, sustain_db=-12.0),
            ShaperSettings(on=True, attack_db=-6.0, sustain_db=8.0),
        ):
            x = drums(seed)
            got = punch.shape(bank_of([x]), [s], RATE)[:, 0]
            wanted = naive_shaper(x, s)
            residual = np.sqrt(np.mean((got - wanted) ** 2) / np.mean(wanted**2))
            assert 20 * np.log10(residual) < -90


class TestSettleSamples:
    """A follower forgets where it started."""

    @pytest.mark.parametrize("time_ms", [5.0, 120.0])
    def test_forgets(self, time_ms):
        """A difference of 20 dB shrinks below 0.0004 dB."""
        n = settle_samples(time_ms, RATE)
        assert 20.0 * coefficient(time_ms, RATE) ** n < 4e-4
