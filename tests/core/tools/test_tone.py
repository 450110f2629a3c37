"""The equaliser: what is heard has the curve that is shown."""

import itertools

import numpy as np
import pytest

from arkund.core.dsp import filters
from arkund.core.dsp.reach import NOTHING
from arkund.core.errors import SettingsError
from arkund.core.tools.tone import HIGHEST_SHARE, MOST_BANDS, SHELVES, Band, Tone, curve_db, sections
from tests.seeds import seeds
from tests.stages import RATE, through


class TestProcess:
    """What is heard has the curve that is shown."""

    @pytest.mark.parametrize("seed", seeds(1, 2, 3))
    def test_curve_is_the_measured_response(self, seed):
        """The spectrum of the impulse response equals the drawn curve within 0.02 dB."""
        rng = np.random.default_rng(seed)
        bands = tuple(
            Band(
                kind=k,
                frequency_hz=float(rng.uniform(80, 9000)),
                gain_db=float(rng.uniform(-12, 12)),
                slope_db=int(6 * rng.integers(1, 9)),
            )
            for k in ("high_pass", "bell", "low_shelf", "high_shelf", "low_pass")
        )
        settings = Tone(
            bands=(bands[0].replace(frequency_hz=60.0), *bands[1:4], bands[4].replace(frequency_hz=15_000.0))
        )
        impulse = np.zeros(1 << 16, np.float32)
        impulse[100] = 1.0
        out = through(settings, impulse).astype(float)
        axis = np.geomspace(40, 18_000, 200)
        spectrum = np.abs(
            np.array([np.sum(out * np.exp(-2j * np.pi * f * np.arange(out.size) / RATE)) for f in axis[::10]])
        )
        wanted = curve_db(settings, axis[::10], RATE)
        loud = wanted > -60
        assert np.max(np.abs(20 * np.log10(spectrum) - wanted)[loud]) < 0.02

    def test_off_means_off(self):
        """Bands that are off, bells of 0 dB and a switched-off equaliser do nothing."""
        x = np.random.default_rng(1).standard_normal(1000).astype(np.float32)
        for settings in (
            Tone(bands=(Band(gain_db=0.0),)),
            Tone(bands=(Band(gain_db=6.0, on=False),)),
            Tone(on=False, bands=(Band(gain_db=6.0),)),
        ):
            assert sections(settings, RATE) == ()
            assert np.array_equal(through(settings, x), x)
            assert settings.reach(RATE) == NOTHING

    def test_high_frequencies_at_low_rates(self):
        """20 kHz is allowed in a 44.1 kHz recording."""
        settings = Tone(bands=(Band(frequency_hz=20_000.0, gain_db=6.0), Band(kind="low_pass", frequency_hz=20_000.0)))
        assert np.all(np.isfinite(curve_db(settings, np.array([100.0, 19_000.0]), 44_100)))

    def test_number_of_bands(self):
        """As many as wanted, within reason."""
        with pytest.raises(SettingsError, match="at most"):
            Tone(bands=(Band(),) * (MOST_BANDS + 1))


class TestBand:
    """What a band may be is what can be rendered."""

    @pytest.mark.parametrize("kind", SHELVES)
    def test_shelves_are_no_resonances(self, kind):
        """Beyond Q 2 they are refused in words; within, at every end of every range and all rates, they follow their curve and settle soon."""
        with pytest.raises(SettingsError, match=r"q: 2\.05 is outside 0.3 to 2 for a shelf"):
            Band(kind=kind, q=2.05)
        axis = np.geomspace(20, 19_900, 400)
        for frequency, gain, q, rate in itertools.product(
            (20.0, 20_000.0), (-15.0, 15.0), (0.3, 2.0), (44_100, 96_000)
        ):
            (section,) = sections(Tone(bands=(Band(kind=kind, frequency_hz=frequency, gain_db=gain, q=q),)), rate)
            assert section.settle_samples() < 2 * rate
            a = 10 ** (gain / 40)
            root = np.sqrt(a) / q
            shape = {
                "low_shelf": ((a, a * root, a * a), (a, root, 1)),
                "high_shelf": ((a * a, a * root, a), (1, root, a)),
            }
            tuned = min(frequency, HIGHEST_SHARE * rate + 155.0)
            wanted = filters.analogue_db(*shape[kind], axis, tuned)
            assert np.abs(filters.magnitude_db((section,), axis, rate) - wanted).max() < 0.5
