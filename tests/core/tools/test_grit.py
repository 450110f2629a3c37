"""Grit: small sounds pass, large ones are bent as the curve says, nothing folds back, no DC is left."""

import numpy as np
import pytest

from arkund.core.tools import grit
from arkund.core.tools.grit import SHAPES, Grit
from arkund.core.tools.plain import residual_db
from tests.core.dsp.test_bank import drums
from tests.stages import through

RATES = (44_100, 48_000, 96_000)


def sine(frequency_hz: int, peak: float = 1.0, rate: int = 48_000, seconds: float = 1.5) -> np.ndarray:
    return (peak * np.sin(2 * np.pi * frequency_hz * np.arange(int(seconds * rate)) / rate)).astype(np.float32)


def lines(x: np.ndarray, rate: int) -> np.ndarray:
    """Return the magnitudes at whole Hz of the last second."""
    part = x[-rate:].astype(float)
    return np.abs(np.fft.rfft(part * np.blackman(rate))) / (0.21 * rate)


class TestGrit:
    """Against closed forms."""

    @pytest.mark.parametrize("shape", SHAPES)
    @pytest.mark.parametrize(("frequency", "rate"), [(4999, 48_000), (7001, 48_000), (4999, 44_100), (3001, 96_000)])
    def test_nothing_folds_back(self, shape, frequency, rate):
        """Full scale with 18 dB of drive: but for harmonics, all lies 80 dB under the sine."""
        found = lines(through(Grit(on=True, shape=shape, drive_db=18.0), sine(frequency, rate=rate), rate=rate), rate)
        harmonics = np.abs((np.arange(found.size) + frequency / 2) % frequency - frequency / 2) < 4
        harmonics[:20] = True
        assert np.max(found[~harmonics]) < 1e-4 * found[frequency]

    @pytest.mark.parametrize(
        ("shape", "curve"), [("soft", lambda x: x / np.sqrt(1 + x * x)), ("hard", lambda x: np.clip(x, -1, 1))]
    )
    @pytest.mark.parametrize(("drive_db", "bias"), [(12.0, 0.0), (18.0, 0.4)])
    def test_harmonics_are_those_of_the_curve(self, shape, curve, drive_db, bias):
        """Of a low sine, the first eight within 0.1 dB, from the curve itself over one period."""
        x = np.sin(2 * np.pi * np.arange(4096) / 4096) * 10 ** (drive_db / 20) + bias
        slope = 1.0 if shape == "hard" else (1 + bias * bias) ** -1.5
        wanted = np.abs(np.fft.rfft(curve(x)))[1:9] / 2048 / slope / 10 ** (drive_db / 20)
        found = lines(through(Grit(on=True, shape=shape, drive_db=drive_db, bias=bias), sine(200)), 48_000)[
            200:1601:200
        ]
        seen = wanted > 1e-4
        assert 20 * np.log10(found[: seen.size][seen] / wanted[seen]) == pytest.approx(0.0, abs=0.1)

    @pytest.mark.parametrize("shape", SHAPES)
    @pytest.mark.parametrize("bias", [0.0, 0.5, -0.9])
    def test_small_signals_pass(self, shape, bias):
        """At -80 dBFS within 0.01 dB, up to the highest, whatever the drive."""
        noise = (1e-4 * np.random.default_rng(8).standard_normal(24_000)).astype(np.float32)
        out = through(Grit(on=True, shape=shape, drive_db=6.0, bias=bias), noise)
        assert residual_db(out[9000:], noise[9000:].astype(float)) < -60.0

    @pytest.mark.parametrize("shape", SHAPES)
    def test_no_dc(self, shape):
        """However lopsided."""
        out = through(Grit(on=True, shape=shape, drive_db=24.0, bias=0.8), sine(100, seconds=3.0))
        assert abs(float(np.mean(out[-48_000:]))) < 1e-4

    def test_even_harmonics_come_from_off_the_middle(self):
        """None from the soft curve, some from the lopsided one, and from any with a bias."""
        second = {}
        for name, settings in {"soft": {}, "lopsided": {"shape": "lopsided"}, "biased": {"bias": 0.4}}.items():
            found = lines(through(Grit(on=True, drive_db=9.0, **settings), sine(500)), 48_000)
            second[name] = found[1000] / found[500]
        assert second["soft"] < 1e-5
        assert min(second["lopsided"], second["biased"]) > 0.03

    def test_tape_loses_top_when_loud(self):
        """8 kHz against 200 Hz: equal when soft, less of it when loud."""
        heights = []
        for peak in (0.01, 1.0):
            levels = [
                lines(through(Grit(on=True, shape="tape", drive_db=9.0), sine(hz, peak)), 48_000)[hz]
                for hz in (8000, 200)
            ]
            heights.append(20 * np.log10(levels[0] / levels[1]))
        assert heights[0] == pytest.approx(0.0, abs=0.1)
        assert heights[1] < -3.0

    def test_the_band_in_which_it_acts(self):
        """A low sine below it passes as it is; by itself it would be bent."""
        low = sine(60)
        whole, above = (through(Grit(on=True, drive_db=18.0, from_hz=hz), low) for hz in (20.0, 2000.0))
        assert lines(whole, 48_000)[180] > 0.01
        assert residual_db(above[4800:], low[4800:].astype(float)) < -40.0

    def test_share_and_output(self):
        """Nothing of it is the sound itself; output is a gain."""
        x = drums(1)
        assert residual_db(through(Grit(on=True, drive_db=20.0, share=0.0), x), x.astype(float)) < -140.0
        one, two = (through(Grit(on=True, output_db=db), x) for db in (0.0, 6.0))
        assert residual_db(two, one.astype(float) * 10**0.3) < -120.0

    @pytest.mark.parametrize("rate", RATES)
    def test_against_the_plain_loop(self, rate):
        """Of every shape, with all filters."""
        x = drums(3)[:12_000]
        for k, shape in enumerate(SHAPES):
            mine = Grit(
                on=True, shape=shape, drive_db=4.0 + 8 * k, bias=0.3 - 0.2 * k, from_hz=80.0, up_to_hz=9000.0, share=0.8
            )
            wanted = grit.oracle(x, mine, rate)
            assert residual_db(through(mine, x, rate=rate)[:-400], wanted[:-400]) < -90.0
