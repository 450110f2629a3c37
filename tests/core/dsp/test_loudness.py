"""Loudness and true peak against the figures of ITU-R BS.1770."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.dsp.bank import bank_of
from arkund.core.dsp.loudness import (
    Meter,
    k_weighting,
    measure,
    oversampled_peak,
    oversampling_filter,
    quick_loudness_lufs,
)
from arkund.core.errors import AudioError
from tests.seeds import seeds


def sine(frequency: float, level_db: float, seconds: float, rate: int, channels: int = 2, phase: float = 0.0):
    t = np.arange(int(seconds * rate)) / rate
    wave = 10 ** (level_db / 20) * np.sin(2 * np.pi * frequency * t + phase)
    return np.repeat(wave[:, None], channels, axis=1).astype(np.float32)


def loudness_lufs(audio: np.ndarray, rate: int) -> float:
    return measure(audio, rate).loudness_lufs


class TestKWeighting:
    """At 48 kHz the filters are those of the standard's tables."""

    def test_table_1_and_2(self):
        """Coefficients to the digits that are printed."""
        first, second = k_weighting(48_000)
        assert (first.b0, first.b1, first.b2) == pytest.approx((1.53512485958697, -2.69169618940638, 1.19839281085285))
        assert (first.a1, first.a2) == pytest.approx((-1.69065929318241, 0.73248077421585))
        assert (second.b0, second.b1, second.b2) == (1.0, -2.0, 1.0)
        assert (second.a1, second.a2) == pytest.approx((-1.99004745483398, 0.99007225036621))


class TestIntegratedLoudness:
    """Reference signals and the gates."""

    @pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
    def test_full_scale_sine(self, rate):
        """A 997 Hz sine at 0 dBFS in one channel reads -3.01 LKFS (annex 1)."""
        assert loudness_lufs(sine(997.0, 0.0, 5.0, rate, channels=1), rate) == pytest.approx(-3.01, abs=0.02)

    @pytest.mark.parametrize("level_db", [-23.0, -33.0])
    def test_stereo_sine(self, level_db):
        """EBU Tech 3341 cases 1 and 2: a 1 kHz stereo sine reads its level."""
        assert loudness_lufs(sine(1000.0, level_db, 20.0, 48_000), 48_000) == pytest.approx(level_db, abs=0.1)

    def test_gates(self):
        """EBU Tech 3341 case 3: softer ends do not pull the loudness down."""
        parts = [sine(1000.0, v, s, 48_000) for v, s in ((-36.0, 10.0), (-23.0, 60.0), (-36.0, 10.0))]
        assert loudness_lufs(np.concatenate(parts), 48_000) == pytest.approx(-23.0, abs=0.1)

    def test_absolute_gate(self):
        """EBU Tech 3341 case 4: what lies below -70 does not count at all."""
        parts = [sine(1000.0, v, s, 48_000) for v, s in ((-72, 10), (-36, 10), (-23, 60), (-36, 10), (-72, 10))]
        assert loudness_lufs(np.concatenate(parts), 48_000) == pytest.approx(-23.0, abs=0.1)

    def test_pieces_equal_the_whole(self):
        """Audio may arrive in pieces of any size."""
        audio = np.random.default_rng(8).standard_normal((96_000, 2)).astype(np.float32) * 0.1
        meter = Meter(2, 4, 48_000)
        for part in np.array_split(audio, 37):
            meter.add(bank_of(list(part.T)))
        assert meter.integrated_lufs((0, 1)) == pytest.approx(loudness_lufs(audio, 48_000), abs=1e-5)

    def test_against_double_precision(self):
        """Each channel of a full bank, against the same filters in scipy's direct form and double precision."""
        rng = np.random.default_rng(5)
        bank = (rng.standard_normal((96_000, 16)) * 10 ** (rng.uniform(-60, -10, 16) / 20)).astype(np.float32)
        meter = Meter(16, 16, 48_000)
        meter.add(bank)
        sos = [[s.b0, s.b1, s.b2, 1.0, s.a1, s.a2] for s in k_weighting(48_000)]
        for lane in range(16):
            power = np.mean(signal.sosfilt(sos, bank[:, lane].astype(float)) ** 2)
            assert meter.integrated_lufs((lane,)) == pytest.approx(-0.691 + 10 * np.log10(power), abs=0.05)

    def test_silence(self):
        """Silence has no loudness, and is no error."""
        assert loudness_lufs(np.zeros((48_000, 2), np.float32), 48_000) < -150

    def test_shape_is_checked(self):
        """Mono must be given as one channel."""
        with pytest.raises(AudioError, match="shape"):
            loudness_lufs(np.zeros(100), 48_000)

    def test_quick_loudness_of_a_loop(self):
        """For steady sound the ungated figure is the same."""
        audio = sine(1000.0, -20.0, 4.0, 48_000)
        assert quick_loudness_lufs(audio, 48_000) == pytest.approx(loudness_lufs(audio, 48_000), abs=0.05)


class TestTruePeak:
    """Peaks between samples."""

    @pytest.mark.parametrize(
        ("frequency", "phase"), [(12_000.0, np.pi / 4), (11_025.0, 0.7), (8_000.0, np.pi / 6), (16_000.0, 0.4)]
    )
    def test_sine_between_samples(self, frequency, phase):
        """A faded-in sine reads its amplitude within +0.2 / -0.4 dB, the tolerance of EBU Tech 3341."""
        audio = sine(frequency, -6.0, 0.5, 48_000, phase=phase)
        fade = np.minimum(np.arange(24_000) / 4000, 1.0)[:, None]
        assert -6.4 < measure((audio * fade * fade[::-1]).astype(np.float32), 48_000).true_peak_db < -5.8

    def test_never_below_the_sample_peak(self):
        """The samples themselves count."""
        audio = np.random.default_rng(4).uniform(-0.7, 0.7, (4000, 2)).astype(np.float32)
        found = measure(audio, 48_000)
        assert found.true_peak_db >= found.peak_db

    @pytest.mark.parametrize("seed", seeds(8, 9))
    def test_nothing_is_overlooked(self, seed):
        """Rising noise and isolated bursts: the same as oversampling every place by convolution."""
        rng = np.random.default_rng(seed)
        bank = np.zeros((9000, 4), np.float32)
        bank[:, 0] = rng.standard_normal(9000) * np.linspace(0.1, 1.0, 9000)
        bank[:, 1] = rng.standard_normal(9000) * (rng.random(9000) < 0.01)
        bank[:, 2] = np.sin(np.pi / 2 * np.arange(9000) + np.pi / 4) * np.linspace(1.0, 0.2, 9000)
        bank[[20, 4096, 8980], 3] = 0.5, -0.7, 0.6
        meter = Meter(4, 4, 48_000)
        for part in np.array_split(bank, [5, 20, 133, 4000, 8990]):
            meter.add(np.ascontiguousarray(part))
        wanted = [
            max(np.abs(np.convolve(bank[:, lane], taps[::-1])).max() for taps in oversampling_filter())
            for lane in range(4)
        ]
        assert meter.true_peak() == pytest.approx(np.maximum(wanted, np.abs(bank).max(axis=0)), rel=1e-6)

    def test_full_band_hits(self):
        """Bursts against the ideal filter, 64 times as finely: within 0.05 dB up to 20 kHz; up to half the rate none read more than 0.8 dB too low."""
        rng = np.random.default_rng(12)
        audible = np.fft.rfftfreq(3 * 4096, 1 / 48_000) < 20e3
        for decay in (20.0, 60.0, 200.0, 600.0):
            x = np.zeros(4096)
            x[300:3800] = rng.standard_normal(3500) * np.exp(-np.arange(3500) / decay)
            x = np.pad(x, 4096)
            for each, low, high in (
                (x, 0.8, 0.5),
                (np.fft.irfft(np.where(audible, np.fft.rfft(x), 0.0)), 0.05, 0.05),
            ):
                wanted = 20 * np.log10(np.abs(signal.resample(each, 64 * each.size)).max())
                read = measure(each[:, None].astype(np.float32), 48_000).true_peak_db
                assert wanted - low < read < wanted + high

    def test_metered_in_pieces(self):
        """Peak, true peak and overs of every channel, across the pieces' borders, against the whole channel by itself."""
        rng = np.random.default_rng(6)
        bank = np.zeros((20_000, 16), np.float32)
        for lane in range(16):
            at = int(rng.integers(200, 19_000))
            bank[at - 100 : at + 100, lane] = (
                1.3 * np.hanning(200) * np.sin(2 * np.pi * rng.uniform(0.05, 0.4) * np.arange(200))
            )
        meter = Meter(16, 16, 48_000)
        for part in np.array_split(bank, 23):
            meter.add(np.ascontiguousarray(part))
        wanted = [oversampled_peak(bank[:, [lane]]).max() for lane in range(16)]
        assert meter.true_peak() == pytest.approx(wanted, rel=1e-5)
        assert meter.peak == pytest.approx(np.abs(bank).max(axis=0))
        assert meter.overs.tolist() == (np.abs(bank) > 1.0).sum(axis=0).tolist()


class TestShortTerm:
    """Short-term loudness and loudness range, by the test signals of EBU Tech 3341 and 3342."""

    def metered(self, parts, rate=48_000) -> Meter:
        bank = bank_of(list(np.concatenate([sine(1000.0, level, seconds, rate) for level, seconds in parts]).T))
        meter = Meter(2, bank.shape[1], rate)
        for part in np.array_split(bank, 7):
            meter.add(np.ascontiguousarray(part))
        return meter

    @pytest.mark.parametrize("rate", [44_100, 48_000])
    @pytest.mark.parametrize(
        ("levels_db", "wanted_lu"),
        [
            ((-20.0, -30.0), 10.0),
            ((-20.0, -15.0), 5.0),
            ((-40.0, -20.0), 20.0),
            ((-50.0, -35.0, -20.0, -35.0, -50.0), 15.0),
        ],
    )
    def test_loudness_range(self, levels_db, wanted_lu, rate):
        """Tech 3342, cases 1 to 4: tones of 20 s each; within 1 LU as the standard asks, and here a tenth of that."""
        assert self.metered([(level, 20.0) for level in levels_db], rate).range_lu((0, 1)) == pytest.approx(
            wanted_lu, abs=0.1
        )

    def test_short_term(self):
        """Tech 3341, case 9: 1.34 s at -20 and 1.66 s at -30 dBFS, five times: -23 LUFS at every moment after three seconds."""
        found = self.metered([(-20.0, 1.34), (-30.0, 1.66)] * 5).short_term_lufs((0, 1))
        assert found == pytest.approx(np.full(found.size, -23.0), abs=0.1)

    def test_too_short_and_silent(self):
        """Neither has any."""
        assert self.metered([(-20.0, 2.5)]).short_term_lufs((0, 1)).size == 0
        assert self.metered([(-20.0, 2.5)]).range_lu((0, 1)) is None
        assert self.metered([(-200.0, 8.0)]).range_lu((0, 1)) is None


class TestBetween:
    """The loudness of a part of what a meter heard."""

    @pytest.mark.parametrize(("from_s", "to_s"), [(0.0, 3.0), (3.0, 7.0), (6.9, 7.2)])
    def test_as_if_it_were_alone(self, from_s, to_s):
        """Of a piece of steady tones of its own level: that of the tone, within 0.1 dB; parts shorter than a block as well."""
        loud, soft = sine(997.0, -12.0, 3.0, 48_000), sine(997.0, -26.0, 5.0, 48_000)
        bank = bank_of(list(np.concatenate([loud, soft]).T))
        meter = Meter(2, bank.shape[1], 48_000)
        for part in np.array_split(bank, [10_000, 200_000]):
            meter.add(part)
        wanted = -12.0 if to_s <= 3.0 else -26.0
        assert meter.between_lufs((0, 1), from_s, to_s) == pytest.approx(wanted, abs=0.1)

    def test_nothing_between(self):
        """Behind the end, or from a moment to itself: silence."""
        bank = bank_of(list(sine(997.0, -12.0, 2.0, 48_000).T))
        meter = Meter(2, bank.shape[1], 48_000)
        meter.add(bank)
        assert meter.between_lufs((0, 1), 5.0, 9.0) < -150
        assert meter.between_lufs((0, 1), 1.0, 1.0) < -150
