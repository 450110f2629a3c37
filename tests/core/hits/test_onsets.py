"""Bands, candidates, prints and the exact moment, each by itself."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.hits import explain as ex
from arkund.core.hits import onsets
from arkund.core.hits.bands import BANDS, EDGES_HZ, QUARTERS, band_energies
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


class TestBandEnergies:
    """A tone's power in its own band, block by block alike."""

    @pytest.mark.parametrize("band", range(BANDS))
    def test_a_tone_lies_in_its_band(self, band):
        """The band that holds the tone has its mean square, half the amplitude's square."""
        frequency = float(np.sqrt(EDGES_HZ[band] * EDGES_HZ[band + 1]))
        t = np.arange(RATE) / RATE
        energy, _ = band_energies([ArrayMic(0.5 * np.sin(2 * np.pi * frequency * t))], RATE)
        mean = energy[500:900, 0].mean(axis=0)
        assert int(np.argmax(mean)) == band
        assert 10 * np.log10(mean[band] / 0.125) == pytest.approx(0.0, abs=1.5)

    @pytest.mark.parametrize("rate", [44_100, 96_000])
    def test_frames_are_milliseconds(self, rate):
        """At any rate; arrivals in quarters."""
        energy, quick = band_energies([ArrayMic(np.zeros(rate * 2))] * 3, rate)
        assert energy.shape == (2000, 3, BANDS)
        assert quick.shape == (2000 * QUARTERS, 3)

    def test_blocks_do_not_show(self, monkeypatch):
        """Short blocks give the same energies but for settling."""
        mic = ArrayMic(np.random.default_rng(2).standard_normal(3 * RATE) * 0.1)
        whole, _ = band_energies([mic], RATE)
        monkeypatch.setattr("arkund.core.hits.bands.BLOCK_S", 0.7)
        parts, _ = band_energies([mic], RATE)
        assert np.allclose(whole, parts, rtol=1e-3, atol=1e-9)


class TestCandidates:
    """Rises stand where bursts begin."""

    def test_peaks(self):
        """Two bursts, two candidates, within 3 ms."""
        mic = ArrayMic(burst(0.3, 0.5) + burst(0.6, 0.2))
        energy, _ = band_energies([mic], RATE)
        rise = onsets.rise_db(onsets.levels_db(energy)[:, 0])
        found = onsets.peaks(rise, 8.0, 14)
        assert len(found) == 2
        assert found == pytest.approx([300, 600], abs=3)

    def test_steady_noise_has_none(self):
        """Noise alone hardly rises by 8 dB in three bands at once."""
        mic = ArrayMic(np.random.default_rng(4).standard_normal(4 * RATE) * 0.05)
        energy, _ = band_energies([mic], RATE)
        assert len(onsets.peaks(onsets.rise_db(onsets.levels_db(energy)[:, 0]), 8.0, 14)) <= 1

    def test_arrivals(self):
        """Who hears it first, within half a millisecond."""
        near, far = burst(0.3, 0.5), np.roll(burst(0.3, 0.2), 120)
        _, quick = band_energies([ArrayMic(near), ArrayMic(far), ArrayMic(np.zeros(RATE))], RATE)
        first, second, never = onsets.arrivals_ms(quick, 300, 6, 8)
        assert second - first == pytest.approx(2.5, abs=0.5)
        assert np.isinf(never)


class TestExplain:
    """Strokes of two pieces with known prints."""

    def scene(self, levels: dict[int, float]):
        """Two mics; piece 0 bleeds into mic 1 at a tenth of its energy, piece 1 does not bleed."""
        shape = np.exp(-np.arange(ex.AFTER) / 8.0)
        prints = []
        for piece in (0, 1):
            pattern = np.zeros((ex.BEFORE + ex.AFTER, 2, BANDS), np.float32)
            pattern[ex.BEFORE :, piece, :] = shape[:, None] / BANDS
            if piece == 0:
                pattern[ex.BEFORE :, 1, :] = 0.1 * shape[:, None] / BANDS
            prints.append(pattern)
        energy = np.full((200, 2, BANDS), 1e-8, np.float32)
        for piece, level in levels.items():
            energy[100 - ex.BEFORE : 100 + ex.AFTER] += level * prints[piece]
        strokes = [ex.Stroke(piece, 100) for piece in (0, 1)]
        return ex.explain(energy, strokes, prints, [[0], [1]], [4.0, 4.0])

    def test_bleed_is_no_hit(self):
        """What piece 0 leaves in mic 1 is explained by piece 0."""
        assert [s.piece for s in self.scene({0: 1.0})] == [0]

    def test_both_are_found(self):
        """A stroke that stands 10 dB over the bleed is kept, with its level."""
        kept = {s.piece: s for s in self.scene({0: 1.0, 1: 1.0})}
        assert set(kept) == {0, 1}
        assert kept[1].level == pytest.approx(1.0, rel=0.1)
        assert kept[1].excess_db > 8

    def test_below_the_bleed_nothing_is_claimed(self):
        """A stroke 20 dB under the other's bleed is not invented."""
        assert [s.piece for s in self.scene({0: 1.0, 1: 0.001})] == [0]


class TestFirstSample:
    """The first sample over a tenth of the peak."""

    @pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
    def test_a_step(self, rate):
        """Exact to the sample, with DC and a candidate that is off by 2 ms."""
        x = np.full(rate, 0.02)
        x[rate // 2 :] += 0.5 * np.exp(-np.arange(rate - rate // 2) / 500)
        at, peak = first_sample(ArrayMic(x), rate // 2 - rate // 500, rate)
        assert at == rate // 2
        assert peak == pytest.approx(0.5, rel=0.02)

    def test_a_slow_rise(self):
        """A ramp of 100 samples passes a tenth at its tenth sample."""
        x = np.zeros(RATE)
        x[20_000:20_100] = np.linspace(0, 1, 100)
        x[20_100:20_400] = 1.0
        assert first_sample(ArrayMic(x), 20_000, RATE)[0] == pytest.approx(20_010, abs=1)
