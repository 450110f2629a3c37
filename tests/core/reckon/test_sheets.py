"""Reckonings against closed forms, signals and other ways to the same figure."""

import numpy as np
import pytest
from scipy.optimize import brentq

from arkund.core.dsp import filters
from arkund.core.errors import SettingsError
from arkund.core.reckon.sheets import SHEETS, reckon
from arkund.core.timing.note_values import note_ms

RATE = 48_000


def figures(key: str, **typed) -> dict[str, float]:
    """Return an answer by its words; of several with the same words the first."""
    out: dict[str, float] = {}
    for line in reckon(key, {name: str(value) for name, value in typed.items()}):
        out.setdefault(line.words, line.value)
    return out


class TestNoteValues:
    """What lasts how long."""

    @pytest.mark.parametrize(
        ("value", "ms"), [("1/4", 500.0), ("1/8.", 375.0), ("1/8t", 500.0 / 3), ("1/1", 2000.0), ("1/32", 62.5)]
    )
    def test_at_120(self, value, ms):
        """A quarter is half a second; dotted half as long again, of a triplet three in the time of two."""
        assert note_ms(value, 120.0) == pytest.approx(ms)

    def test_a_dotted_quarter_is_counted(self):
        """In 6/8 at 60 the dotted quarter lasts a second, an eighth a third of it."""
        assert note_ms("1/8", 60.0, 6, 8) == pytest.approx(1000 / 3)

    @pytest.mark.parametrize("value", ["1/3", "8", "1/8..", "", "1/8 t"])
    def test_no_value(self, value):
        """Said with those that are."""
        with pytest.raises(SettingsError, match="1/8t"):
            note_ms(value, 120.0)


class TestSheets:
    """Each answer another way."""

    def test_two_paths(self):
        """At the first notch the sum of a signal and its later, softer copy has the magnitude that is told, and nowhere less."""
        found = figures("comb", ms=1.2, softer_db=3.0)
        hz = np.linspace(20.0, 5000.0, 40_000)
        level = 20 * np.log10(np.abs(1.0 + 10 ** (-3 / 20) * np.exp(-2j * np.pi * hz * 1.2e-3)))
        assert hz[np.argmin(level[hz < 600])] == pytest.approx(found["cancels at"], abs=0.2)
        assert level.min() == pytest.approx(found["at its deepest"], abs=0.01)
        assert level.max() == pytest.approx(found["at its highest"], abs=0.01)

    def test_inverted_they_cancel_at_nothing(self):
        """From 0 Hz on, at multiples of 1 / d."""
        lines = [line.value for line in reckon("comb", {"ms": "2", "inverted": "1"}) if line.words == "cancels at"]
        assert lines == [0.0, 500.0, 1000.0, 1500.0]

    @pytest.mark.parametrize("q", [0.7, 1.41, 6.0])
    def test_bandwidth_of_our_own_bell(self, q):
        """At its edges a bell of that Q has half its gain in dB."""
        found = figures("bandwidth", hz=1000, q=q)
        bell = (filters.bell(1000.0, 8.0, q, RATE),)
        edges = filters.magnitude_db(bell, np.array([found["from"], found["up to"]]), RATE)
        assert edges == pytest.approx([4.0, 4.0], abs=0.08)
        assert found["up to"] / found["from"] == pytest.approx(2 ** found["wide"])

    def test_pitch(self):
        """A string of an octave below A4 has its length in air doubled."""
        found = figures("pitch", hz="A3")
        assert found["frequency"] == pytest.approx(220.0)
        assert found["above A3"] == pytest.approx(0.0, abs=1e-9)
        assert found["wavelength"] == pytest.approx(34321.0 / 220.0, rel=1e-3)

    def test_way(self):
        """A metre takes 2.9 ms at 20 degrees; 48 samples are a millisecond."""
        found = figures("way", ms=100.0 / 34.32)
        assert found["distance"] == pytest.approx(100.0, abs=0.05)
        assert figures("way", ms=1)["samples"] == pytest.approx(48.0)

    def test_level(self):
        """Half the amplitude; twice the same sound is 6 dB, with another 3 dB more."""
        found = figures("level", db=-6.0206)
        assert found["amplitude"] == pytest.approx(0.5, abs=1e-5)
        assert found["twice the same sound"] == pytest.approx(0.0, abs=1e-4)
        assert found["with another as loud"] == pytest.approx(-3.0103, abs=1e-4)

    def test_compressor(self):
        """(L - T)(1 - 1/R); the level at which 4 dB are taken is where that says."""
        assert figures("compressor", in_db=-6, threshold_db=-18, ratio=4)["reduction"] == pytest.approx(9.0)
        at = brentq(lambda t: figures("compressor", in_db=-6, threshold_db=t, ratio=4)["reduction"] - 4.0, -40, 0)
        assert at == pytest.approx(-6 - 4 / 0.75, abs=1e-3)

    def test_decay(self):
        """20 dB in 200 ms are 60 in 600; the signal of that time constant has fallen so."""
        found = figures("decay", fall_db=20, ms=200)
        assert found["falls by 60 dB in"] == pytest.approx(0.6)
        assert 20 * np.log10(np.exp(-200.0 / found["to 37 % in"])) == pytest.approx(-20.0)
        assert figures("decay", fall_db=20, ms="1/8")["falls by 60 dB in"] == pytest.approx(0.75)

    @pytest.mark.parametrize("key", [sheet.key for sheet in SHEETS])
    def test_first_values(self, key):
        """Each answers with nothing typed, and at both ends of every number."""
        (sheet,) = (each for each in SHEETS if each.key == key)
        for end in ("low", "high"):
            for asked in sheet.asks:
                lines = reckon(key, {asked.key: repr(getattr(asked, end))})
                assert all(np.isfinite(line.value) for line in lines)

    @pytest.mark.parametrize(
        ("key", "typed", "words"),
        [
            ("pitch", {"hz": "H3"}, "such as E1"),
            ("way", {"ms": "-1"}, "ms: -1 is outside 0 to 10000 ms"),
            ("level", {"db": "loud"}, "db: expected a number, got 'loud'"),
            ("level", {"db": "nan"}, "db: nan is outside"),
            ("tempo", {"swing": "3"}, "swing: not asked for by tempo"),
            ("luck", {}, "expected one of pitch, way"),
        ],
    )
    def test_refused(self, key, typed, words):
        """In a sentence that says what and why."""
        with pytest.raises(SettingsError, match=words):
            reckon(key, typed)
