"""A cut where one points, carried to another drum, and what filters do to a sum."""

import numpy as np
import pytest

from arkund.core.dsp import filters
from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.files.audio import ArrayMic
from arkund.core.tone.notch import cut, peak_near
from arkund.core.tone.retune import retuned
from arkund.core.tone.together import together
from arkund.core.tone.zones import zones_of
from arkund.core.tools.tone import Band, Tone, curve_db

RATE = 48_000
COUNT = 20


def strokes(hz: float, strong: float, seconds: float = 0.3) -> tuple[np.ndarray, list[int]]:
    """Return strokes of noise with a tone that rings in them, half a second apart, and where they begin."""
    rng, t = np.random.default_rng(11), np.arange(RATE // 2) / RATE
    one = lambda: (
        rng.standard_normal(t.size) * np.exp(-t / 0.05) + strong * np.sin(2 * np.pi * hz * t) * np.exp(-t / seconds)
    )
    return np.concatenate([one() for _ in range(COUNT)]).astype(np.float32), [k * RATE // 2 for k in range(COUNT)]


class TestPeakNear:
    """The measured peak at a place."""

    @pytest.mark.parametrize("hz", [318.0, 742.0, 2210.0])
    @pytest.mark.parametrize("off", [0.95, 1.06])
    def test_a_ring(self, hz, off):
        """Pointed at from 6 % beside, it is found within half a percent; it is narrow, and the cut takes most of what stands out."""
        x, starts = strokes(hz, 1.0)
        found = peak_near(ArrayMic(x).read, starts, off * hz, RATE)
        assert found.frequency_hz == pytest.approx(hz, rel=0.005)
        assert found.above_db > 10
        band = cut(found)
        assert band.q > 10
        (there,) = curve_db(Tone(bands=(band,)), np.array([hz]), RATE)
        assert there == pytest.approx(-min(0.7 * found.above_db, 12.0), abs=0.2)

    def test_a_hump_gets_a_wide_cut(self):
        """As wide as the bell that made it, nearly."""
        x, starts = strokes(1000.0, 0.0)
        hump = filter_bank(bank_of([x]), [(filters.bell(1200.0, 12.0, 2.0, RATE),)])[:, 0]
        band = cut(peak_near(ArrayMic(hump).read, starts, 1150.0, RATE))
        assert 1.4 <= band.q < 8.0
        assert band.frequency_hz == pytest.approx(1200.0, rel=0.1)

    def test_nothing_there(self):
        """Without strokes none; outside of what is heard none."""
        x, starts = strokes(500.0, 1.0)
        assert peak_near(ArrayMic(x).read, [], 500.0, RATE) is None
        assert peak_near(ArrayMic(x).read, starts, 1.0, RATE) is None


class TestRetuned:
    """From one tom to another."""

    def test_what_belongs_to_the_pitch_moves(self):
        """Below 1 kHz by the ratio, within what a filter may be tuned to; above it nothing."""
        bands = [
            Band(kind="high_pass", frequency_hz=60.0),
            Band(frequency_hz=148.0, gain_db=2.0),
            Band(frequency_hz=4000.0, gain_db=3.0),
        ]
        moved = retuned(Tone(bands=(*bands, Band(frequency_hz=22.0))), 0.55).bands
        assert [round(band.frequency_hz, 1) for band in moved] == [33.0, 81.4, 4000.0, 20.0]
        assert [band.gain_db for band in moved] == [0.0, 2.0, 3.0, 0.0]


class TestTogether:
    """A sum with filters in its mics."""

    def of(self, *cascades):
        x, starts = strokes(100.0, 2.0)
        low = filter_bank(bank_of([x]), [(filters.low_pass(400.0, 1, RATE)[0],)])[:, 0]
        after = [filter_bank(bank_of([low]), [cascade])[:, 0] if cascade else low for cascade in cascades]
        return together([low] * len(after), after, [at / RATE for at in starts[1:]], RATE)

    def test_a_filter_in_one_thins_both(self):
        """24 dB/octave at 100 Hz turn one mic by half a period there: the two cancel, and it is said where and by how much."""
        found = self.of((), filters.high_pass(100.0, 4, RATE))
        hz, lost = found.thinned
        assert hz == pytest.approx(100.0, rel=0.25)
        assert lost < -3.0

    @pytest.mark.parametrize("order", [1, 4])
    def test_the_same_in_all_thins_nothing(self, order):
        """The sum changes as its mics do."""
        found = self.of(*[filters.high_pass(100.0, order, RATE)] * 2)
        assert found.thinned is None
        assert np.subtract(found.after_db, found.before_db).min() < -6

    def test_no_hits(self):
        """Nothing is said."""
        silent = np.zeros(RATE, np.float32)
        assert together([silent], [silent], [], RATE).thinned is None


def test_zones_lie_in_order():
    """Of every kind of mic, low to high; a layer or what is unknown has none."""
    for piece, role in (
        ("kick", "in"),
        ("snare", "top"),
        ("snare", "bottom"),
        ("floor", "close"),
        ("ride", "spot"),
        ("kit", "overhead"),
        ("kit", "room"),
    ):
        rows = zones_of(piece, role)
        assert rows
        assert [low for _, low, _ in rows] == sorted(low for _, low, _ in rows)
        assert all(low < high for _, low, high in rows)
    assert zones_of("cowbell", "spot") == ()
