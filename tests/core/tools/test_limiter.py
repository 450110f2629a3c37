"""The limiter holds its ceiling, and leaves alone what lies below."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.tools.limiter import Limiter, limit, oracle
from tests.stages import through


def peak_16x_db(audio: np.ndarray) -> float:
    """Independent true peak: scipy's polyphase resampling."""
    return 20 * np.log10(np.abs(signal.resample_poly(audio.astype(float), 16, 1, axis=0)).max())


def bursts(seed: int, colour: float) -> np.ndarray:
    """Return a second of loud bursts of noise up to half the rate; colour below 0 is brighter than white, above 0 darker."""
    rng = np.random.default_rng(seed)
    audio = rng.standard_normal((48_000, 2)) * 0.02
    for at in rng.integers(500, 40_000, 20):
        t = np.arange(3000)
        noise = signal.lfilter([1.0], [1.0, -colour], rng.standard_normal((3000, 2)), axis=0)
        audio[at : at + 3000] += rng.uniform(0.5, 4) * noise * np.exp(-t / rng.uniform(20, 400))[:, None]
    return audio.astype(np.float32)


class TestLimit:
    """Ceiling, transparency and link."""

    @pytest.mark.parametrize("ceiling_db", [-0.5, -1.0, -6.0])
    @pytest.mark.parametrize("seed", [1, 2, 3])
    @pytest.mark.parametrize("colour", [-0.7, 0.0, 0.8])
    def test_ceiling_is_held(self, ceiling_db, seed, colour):
        """The peak between samples, read 16 times as finely, stays within 0.1 dB of the ceiling for loud hits over the whole band."""
        out = limit(bursts(seed, colour), Limiter(ceiling_db=ceiling_db, release_ms=60.0), 48_000)
        assert peak_16x_db(out) <= ceiling_db + 0.1
        assert peak_16x_db(out) > ceiling_db - 0.6

    def test_below_the_ceiling_nothing_changes(self):
        """What needs no limiting comes out bit for bit."""
        audio = (np.random.default_rng(9).standard_normal((20_000, 2)) * 0.05).astype(np.float32)
        assert np.array_equal(limit(audio, Limiter(ceiling_db=-1.0, release_ms=60.0), 48_000), audio)

    def test_channels_share_the_gain(self):
        """A peak on the left lowers the right by as much, so that the picture stays."""
        audio = np.full((9600, 2), 0.25, np.float32)
        audio[4800:4850, 0] = 1.5
        out = limit(audio, Limiter(ceiling_db=-6.0, release_ms=60.0), 48_000)
        assert out[4825, 1] / 0.25 == pytest.approx(out[4825, 0] / 1.5, rel=1e-5)

    def test_recovers_with_its_release(self):
        """Five release times after the peak the gain is back within 0.1 dB."""
        audio = np.full((48_000, 2), 0.2, np.float32)
        audio[4800:4810] = 2.0
        out = limit(audio, Limiter(ceiling_db=-6.0, release_ms=40.0), 48_000)
        assert 20 * np.log10(out[4810 + 300 * 48, 0] / 0.2) > -0.1

    def test_comes_back_all_the_way(self):
        """Long after a peak the gain is one again: nothing of it is left standing."""
        audio = np.full((48_000 * 3, 2), 0.01, np.float32)
        audio[1000:1100] = 2.0
        out = limit(audio, Limiter(ceiling_db=-6.0, release_ms=60.0), 48_000)
        assert np.array_equal(out[2 * 48_000 :], audio[2 * 48_000 :])

    def test_louder_into_it(self):
        """What is raised before it is held all the same."""
        audio = bursts(4, 0.0)
        raised = limit(audio * np.float32(10 ** (6 / 20)), Limiter(ceiling_db=-3.0), 48_000)
        assert np.allclose(limit(audio, Limiter(ceiling_db=-3.0, input_db=6.0), 48_000), raised, atol=1e-5)

    def test_in_a_row_of_tools(self):
        """A stereo strip through it, in pieces or at once, is the same; a mic as the plain loop has it, within -90 dB."""
        audio = bursts(5, 0.3)[:20_000]
        tool = Limiter(on=True, ceiling_db=-6.0)
        assert np.array_equal(through(tool, *audio.T), limit(audio, tool, 48_000)[:20_000])
        one = audio[:, 0].copy()
        assert np.abs(through(tool, one) - oracle(one, tool, 48_000)).max() < 10 ** (-90 / 20) * np.abs(one).max()
