"""The limiter holds its ceiling, and leaves alone what lies below."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.tools.limiter import Limiter, limit, oracle
from tests.seeds import seeds
from tests.stages import through


def peak_64x_db(x: np.ndarray) -> float:
    """Independent true peak of the whole band: the spectrum, continued with zeros [x: shape=(samples,) or (samples, channels)]."""
    padded = np.concatenate([np.zeros_like(x, float), x, np.zeros_like(x, float)])
    return 20 * np.log10(np.abs(signal.resample(padded, 64 * len(padded))).max())


def below(x: np.ndarray, hz: float, sample_rate_hz: int) -> np.ndarray:
    """Return a signal without what lies above a frequency."""
    spectrum = np.fft.rfft(x)
    return np.fft.irfft(np.where(np.fft.rfftfreq(x.size, 1 / sample_rate_hz) < hz, spectrum, 0.0), x.size)


def bursts(seed: int, colour: float) -> np.ndarray:
    """Return half a second of loud bursts of noise up to 20 kHz; colour below 0 is brighter than white, above 0 darker."""
    rng = np.random.default_rng(seed)
    audio = rng.standard_normal((24_000, 2)) * 0.02
    for at in rng.integers(500, 20_000, 10):
        t = np.arange(3000)
        noise = signal.lfilter([1.0], [1.0, -colour], rng.standard_normal((3000, 2)), axis=0)
        audio[at : at + 3000] += rng.uniform(0.5, 4) * noise * np.exp(-t / rng.uniform(20, 400))[:, None]
    return np.stack([below(channel, 20e3, 48_000) for channel in audio.T], axis=1).astype(np.float32)


class TestLimit:
    """Ceiling, transparency and link."""

    @pytest.mark.parametrize("ceiling_db", [-1.0, *(pytest.param(db, marks=pytest.mark.long) for db in (-0.5, -6.0))])
    @pytest.mark.parametrize("seed", seeds(1, 2, 3))
    @pytest.mark.parametrize("colour", [-0.7, 0.0, 0.8])
    def test_ceiling_is_held(self, ceiling_db, seed, colour):
        """The peak between samples, read 64 times as finely, stays within 0.1 dB of the ceiling for loud hits up to 20 kHz."""
        out = limit(bursts(seed, colour), Limiter(ceiling_db=ceiling_db, release_ms=60.0), 48_000)
        assert peak_64x_db(out) <= ceiling_db + 0.1
        assert peak_64x_db(out) > ceiling_db - 0.6

    @pytest.mark.parametrize("sample_rate_hz", [44_100, 48_000, 96_000])
    def test_ceiling_of_the_audible_band(self, sample_rate_hz):
        """Noise, clipped noise and bursts of tones up to 20 kHz stay within 0.1 dB of the ceiling, read 64 times as finely over the whole band."""
        noise, n = np.random.default_rng(77).standard_normal(20_000), np.arange(400)
        tones = [
            np.pad(np.hanning(400) * np.sin(2 * np.pi * hz / sample_rate_hz * n + hz), (1000, 2000))
            for hz in np.linspace(14e3, 20e3, 7)
        ]
        loud = (below(noise, 20e3, sample_rate_hz), below(np.clip(2 * noise, -1, 1), 20e3, sample_rate_hz))
        for x in (*loud, np.concatenate(tones)):
            out = limit(np.float32(2.0 * x)[:, None], Limiter(ceiling_db=-1.0), sample_rate_hz)[:, 0]
            assert -1.2 < peak_64x_db(out) < -0.9

    def test_what_nobody_hears_may_pass_it(self):
        """White noise up to half the rate, clipped or not, passes the ceiling by about a decibel at most, as is said."""
        noise = np.random.default_rng(78).standard_normal(20_000)
        for x in (2.0 * noise, np.clip(4.0 * noise, -2.0, 2.0)):
            out = limit(np.float32(x)[:, None], Limiter(ceiling_db=-1.0), 48_000)[:, 0]
            assert peak_64x_db(out) < -1.0 + 1.3

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
