"""Bands, candidates, prints and the exact moment, each by itself."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.hits import onsets
from arkund.core.hits.bands import BANDS, EDGES_HZ, QUARTERS, measure_bands
from arkund.core.hits.refine import first_sample

RATE = 48_000


def burst(
    at_s: float, level: float, seconds: float = 1.0, frequency: float = 1500.0, decay_s: float = 0.05
) -> np.ndarray:
    out = np.random.default_rng(1).standard_normal(int(seconds * RATE)) * 1e-4
    start = int(at_s * RATE)
    t = np.arange(out.size - start) / RATE
    out[start:] += level * np.sin(2 * np.pi * frequency * t) * np.exp(-t / decay_s)
    return out


class TestMeasureBands:
    """A tone's power in its own band, block by block alike."""

    @pytest.mark.parametrize("band", range(BANDS))
    def test_a_tone_lies_in_its_band(self, band):
        """The band that holds the tone has its mean square, half the amplitude's square."""
        frequency = float(np.sqrt(EDGES_HZ[band] * EDGES_HZ[band + 1]))
        t = np.arange(RATE) / RATE
        power = measure_bands([ArrayMic(0.5 * np.sin(2 * np.pi * frequency * t))], RATE).power
        mean = power[500:900, 0].mean(axis=0)
        assert int(np.argmax(mean)) == band
        assert 10 * np.log10(mean[band] / 0.125) == pytest.approx(0.0, abs=1.5)

    @pytest.mark.parametrize("rate", [44_100, 96_000])
    def test_frames_are_milliseconds(self, rate):
        """At any rate; arrivals in quarters."""
        bands = measure_bands([ArrayMic(np.zeros(rate * 2))] * 3, rate)
        assert bands.power.shape == (2000, 3, BANDS)
        assert bands.quick.shape == (2000 * QUARTERS, 3, 2)

    def test_blocks_do_not_show(self, monkeypatch):
        """Short blocks give the same energies but for settling."""
        mic = ArrayMic(np.random.default_rng(2).standard_normal(3 * RATE) * 0.1)
        whole = measure_bands([mic], RATE).power
        monkeypatch.setattr("arkund.core.hits.bands.BLOCK_S", 0.7)
        parts = measure_bands([mic], RATE).power
        assert np.allclose(whole, parts, rtol=1e-3, atol=1e-9)


class TestCandidates:
    """Rises stand where bursts begin."""

    def test_peaks(self):
        """Two bursts, two candidates, within 3 ms."""
        mic = ArrayMic(burst(0.3, 0.5) + burst(0.6, 0.2))
        power = measure_bands([mic], RATE).power
        rise = onsets.band_rise_db(onsets.levels_db(power), [0])
        found = onsets.peaks(rise, 8.0, 14)
        assert len(found) == 2
        assert found == pytest.approx([300, 600], abs=3)

    def test_steady_noise_has_none(self):
        """Noise alone hardly rises by 8 dB in three bands at once."""
        mic = ArrayMic(np.random.default_rng(4).standard_normal(4 * RATE) * 0.05)
        power = measure_bands([mic], RATE).power
        assert len(onsets.peaks(onsets.band_rise_db(onsets.levels_db(power), [0]), 8.0, 14)) <= 1

    def test_rises_against_plain_loops(self):
        """Both kinds of rise, value for value, over two mics."""
        rng = np.random.default_rng(6)
        level = rng.normal(-60, 8, (1100, 3, BANDS)).astype(np.float32)
        quick = rng.normal(-60, 8, (1100, 3, 2)).astype(np.float32)
        slow, fast = onsets.band_rise_db(level, [0, 2]), onsets.quick_rise_db(quick, [0, 2])
        for t in (1, 5, 40, 511, 512, 513, 1024, 1096, 1099):
            bands = [
                sorted(
                    np.clip(level[t : t + 4, m, b].mean() - level[max(t - back, 0) : t, m, b].max(), 0, 15)
                    for b, back in enumerate(onsets.LOOK_BACK)
                )[-3:]
                for m in (0, 2)
            ]
            assert slow[t] == pytest.approx(max(np.mean(rises) for rises in bands), abs=1e-3)
            wide = [
                quick[t : t + 5, m, k].max() - quick[max(t - 10, 0) : t, m, k].max() for m in (0, 2) for k in (0, 1)
            ]
            assert fast[t] == pytest.approx(max(*wide, 0.0), abs=1e-3)

    def test_a_soft_stroke_on_a_loud_tail(self):
        """A stroke 20 dB under a ringing one is still looked at: its top rises."""
        tail = burst(0.3, 0.5, frequency=150.0, decay_s=0.3)
        bands = measure_bands([ArrayMic(tail + burst(0.5, 0.05, frequency=4000.0))], RATE)
        found = onsets.candidates(onsets.levels_db(bands.power), onsets.quick_levels_db(bands.quick), [0], 2.5, 4.0)
        assert np.min(np.abs(found - 500)) <= 2


class TestSoftOnes:
    """Soft strokes of a cymbal that still rings."""

    def test_a_soft_stroke_on_its_own_wash(self):
        """A stroke 2 dB over the wash it falls into is looked at, once; what was found already is not doubled."""
        rng = np.random.default_rng(9)
        level = (-60.0 + rng.normal(0, 0.4, (400, 2, BANDS))).astype(np.float32)
        level[200:230, 1, -2:] += 2.0
        found = onsets.with_soft_ones(np.array([100, 300]), level, 1, 1.5)
        assert found.tolist() == [100, found[1], 300]
        assert found[1] == pytest.approx(200, abs=1)
        assert onsets.with_soft_ones(np.array([201]), level, 1, 1.5).tolist() == [201]

    def test_steady_noise_has_hardly_any(self):
        """Fluctuation alone steps up by 1.5 dB less than once in two seconds."""
        level = np.random.default_rng(2).normal(-60, 0.8, (20_000, 1, BANDS)).astype(np.float32)
        assert onsets.with_soft_ones(np.zeros(0, np.int64), level, 0, 1.5).size < 10


class TestFirstSample:
    """The first sample over a tenth of the peak."""

    @pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
    def test_a_step(self, rate):
        """Exact to the sample, with DC and a candidate that is early by 1.4 ms."""
        x = np.full(rate, 0.02)
        x[rate // 2 :] += 0.5 * np.exp(-np.arange(rate - rate // 2) / 500)
        at, peak = first_sample(ArrayMic(x), rate // 2 - rate // 700, rate)
        assert at == rate // 2
        assert peak == pytest.approx(0.5, rel=0.02)

    def test_a_slow_rise(self):
        """A ramp of 100 samples passes a tenth at its tenth sample."""
        x = np.zeros(RATE)
        x[20_000:20_100] = np.linspace(0, 1, 100)
        x[20_100:20_400] = 1.0
        assert first_sample(ArrayMic(x), 20_000, RATE)[0] == pytest.approx(20_010, abs=1)

    @pytest.mark.parametrize("differences", [1, 2])
    def test_on_a_loud_tail(self, differences):
        """A bright stroke as loud as the dark tail that it falls on begins where it begins, within 0.2 ms."""
        x = burst(0.3, 0.5, frequency=150.0, decay_s=0.4) + burst(0.5, 0.3, frequency=3000.0, decay_s=0.01)
        at, _ = first_sample(ArrayMic(x), int(0.4995 * RATE), RATE, differences)
        assert at == pytest.approx(0.5 * RATE, abs=0.0002 * RATE)
