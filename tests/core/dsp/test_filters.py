"""Filters against their analogue prototypes, closed forms and scipy."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.dsp import filters
from arkund.core.dsp.bank import bank_of, filter_bank
from arkund.core.errors import SettingsError

AXIS_HZ = np.geomspace(20.0, 20_000.0, 1500)


def prototype(kind: str, gain_db: float, q: float):
    a = 10 ** (gain_db / 40)
    root = np.sqrt(a) / q
    return {
        "bell": ((1, a / q, 1), (1, 1 / (a * q), 1)),
        "low_shelf": ((a, a * root, a * a), (a, root, 1)),
        "high_shelf": ((a * a, a * root, a), (1, root, a)),
    }[kind]


ORDERS = [1, 2, 4, 8, *(pytest.param(each, marks=pytest.mark.long) for each in (3, 5, 6, 7))]


class TestMatchedShapes:
    """Bells and shelves follow the analogue curve up to 20 kHz, also near half the sample rate."""

    @pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
    @pytest.mark.parametrize("kind", ["bell", "low_shelf", "high_shelf"])
    def test_within_a_third_of_a_decibel(self, kind, rate):
        """0.3 dB at random settings within the ranges that the equaliser offers."""
        rng = np.random.default_rng(rate + len(kind))
        shape = getattr(filters, kind)
        worst = 0.0
        for _ in range(25):
            frequency = float(np.exp(rng.uniform(np.log(30), np.log(20_000))))
            gain = float(rng.uniform(-15, 15))
            q = float(np.exp(rng.uniform(np.log(0.4), np.log(10)))) if kind == "bell" else float(rng.uniform(0.4, 1.2))
            section = shape(frequency, gain, q, rate)
            wanted = filters.analogue_db(*prototype(kind, gain, q), AXIS_HZ, frequency)
            worst = max(worst, np.max(np.abs(filters.magnitude_db((section,), AXIS_HZ, rate) - wanted)))
        assert worst < 0.3

    def test_centre_gain(self):
        """A bell has its gain at its centre and none far away."""
        section = filters.bell(1000.0, 9.0, 2.0, 48_000)
        got = filters.magnitude_db((section,), np.array([20.0, 1000.0]), 48_000)
        assert got == pytest.approx([0.0, 9.0], abs=0.05)

    @pytest.mark.parametrize(("kind", "at"), [("low_shelf", 20.0), ("high_shelf", 19_000.0)])
    def test_shelf_gain(self, kind, at):
        """A shelf reaches its gain on its side and half of it at its frequency."""
        section = getattr(filters, kind)(700.0, -8.0, 0.7, 48_000)
        got = filters.magnitude_db((section,), np.array([at, 700.0]), 48_000)
        assert got == pytest.approx([-8.0, -4.0], abs=0.12)

    def test_all_are_stable(self):
        """Poles lie inside the unit circle for extreme settings."""
        for frequency in (20.0, 300.0, 21_000.0):
            for q in (0.3, 20.0):
                for gain in (-15.0, 15.0):
                    section = filters.bell(frequency, gain, q, 44_100)
                    assert max(abs(np.roots([1, section.a1, section.a2]))) < 1.0

    @pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
    @pytest.mark.parametrize("order", ORDERS)
    def test_low_pass_follows_the_analogue_curve(self, rate, order):
        """Within 0.5 dB up to 20 kHz, wherever it lets through more than a hundredth, so that sessions of all rates sound alike; it was 7.4 dB too dark."""
        rng, worst = np.random.default_rng(rate + order), 0.0
        for frequency in np.exp(rng.uniform(np.log(20), np.log(19_500), 12)):
            wanted = -10 * np.log10(1 + (AXIS_HZ / frequency) ** (2 * order))
            got = filters.magnitude_db(filters.low_pass(float(frequency), order, rate), AXIS_HZ, rate)
            worst = max(worst, np.abs(got - wanted)[wanted > -40].max())
        assert worst < (0.5 if order < 8 else 0.55)

    @pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
    @pytest.mark.parametrize("order", ORDERS)
    def test_high_pass_follows_the_analogue_curve(self, rate, order):
        """Within 0.5 dB (0.55 at order 8) up to 20 kHz, wherever it lets through more than a thousandth; it was up to 30 dB too steep near half the rate."""
        rng = np.random.default_rng(rate + order)
        for frequency in np.exp(rng.uniform(np.log(200), np.log(19_500), 12)):
            wanted = -10 * np.log10(1 + (frequency / AXIS_HZ) ** (2 * order))
            got = filters.magnitude_db(filters.high_pass(float(frequency), order, rate), AXIS_HZ, rate)
            assert np.abs(got - wanted)[wanted > -60].max() < (0.5 if order < 8 else 0.55)

    @pytest.mark.parametrize("rate", [44_100, 48_000])
    def test_resonant_high_pass(self, rate):
        """Up to 18 dB of resonance: within 1 dB up to 10 kHz, against the analogue sections."""
        rng = np.random.default_rng(rate)
        for order, resonance_db in ((2, 18.0), (3, 6.0), (4, 12.0), (8, 15.0)):
            frequency = float(rng.uniform(1000, 10_000))
            damping = [2 * np.sin(np.pi * (2 * k + 1) / (2 * order)) for k in range(order // 2)]
            damping[0] *= 10 ** (-resonance_db / 20)
            s = 1j * AXIS_HZ / frequency
            wanted = np.prod([s**2 / (s**2 + d * s + 1) for d in damping] + [s / (s + 1)] * (order % 2), axis=0)
            wanted = 20 * np.log10(np.abs(wanted))
            got = filters.magnitude_db(filters.high_pass(frequency, order, rate, resonance_db), AXIS_HZ, rate)
            assert np.abs(got - wanted)[wanted > -60].max() < 1.0


class TestPassFilters:
    """High- and low-pass are Butterworth: -3.01 dB at the cutoff, 6 dB per octave and order."""

    @pytest.mark.parametrize("order", range(1, 9))
    @pytest.mark.parametrize("kind", ["high_pass", "low_pass"])
    def test_cutoff_and_slope(self, kind, order):
        """An octave beyond twice the cutoff falls by 6 dB per order."""
        sections = getattr(filters, kind)(1000.0, order, 192_000)
        far = np.array([125.0, 62.5]) if kind == "high_pass" else np.array([4000.0, 8000.0])
        at, *ends = filters.magnitude_db(sections, np.array([1000.0, *far]), 192_000)
        assert at == pytest.approx(-3.0103, abs=0.001)
        assert ends[0] - ends[1] == pytest.approx(6.02 * order, abs=0.45 * order)

    @pytest.mark.parametrize("order", [1, 2, 3, 4, 7, 8])
    def test_agrees_with_scipy(self, order):
        """Independent implementation: scipy's bilinear Butterworth."""
        sections = filters.high_pass(90.0, order, 48_000)
        sos = signal.butter(order, 90.0, "high", fs=48_000, output="sos")
        w, h = signal.sosfreqz(sos, AXIS_HZ, fs=48_000)
        got = filters.magnitude_db(sections, w, 48_000)
        assert np.max(np.abs(got - 20 * np.log10(np.abs(h) + 1e-12))[w > 40]) < 0.001

    @pytest.mark.parametrize("order", [0, 9])
    def test_order_is_checked(self, order):
        """6 to 48 dB per octave are offered."""
        with pytest.raises(SettingsError, match="order"):
            filters.low_pass(100.0, order, 48_000)

    @pytest.mark.parametrize("frequency", [0.0, -5.0, 24_000.0])
    def test_frequency_is_checked(self, frequency):
        """A filter lies below half the sample rate."""
        with pytest.raises(SettingsError, match="frequency_hz"):
            filters.bell(frequency, 3.0, 1.0, 48_000)


class TestStateVariable:
    """The state-variable form computes the same filter, more exactly in float32."""

    @pytest.mark.parametrize(
        "section",
        [
            filters.bell(60.0, 12.0, 8.0, 48_000),
            filters.low_shelf(100.0, -9.0, 0.7, 48_000),
            *filters.high_pass(40.0, 3, 48_000),
            *filters.low_pass(9000.0, 5, 48_000),
        ],
    )
    def test_equals_direct_form(self, section):
        """Naive oracle: scipy's direct form in float64, residual below -110 dB."""
        x = np.random.default_rng(5).standard_normal(24_000).astype(np.float32)
        wanted = signal.lfilter([section.b0, section.b1, section.b2], [1, section.a1, section.a2], x.astype(float))
        got = filter_bank(bank_of([x]), [[section]])[:, 0]
        residual = np.sqrt(np.mean((got - wanted) ** 2)) / np.sqrt(np.mean(wanted**2))
        assert 20 * np.log10(residual) < -110

    def test_settles_when_it_says(self):
        """After settle_samples the impulse response is 120 dB down."""
        section = filters.bell(80.0, 12.0, 6.0, 48_000)
        n = section.settle_samples()
        impulse = np.zeros(n + 4000)
        impulse[0] = 1.0
        ringing = signal.lfilter([section.b0, section.b1, section.b2], [1, section.a1, section.a2], impulse)
        ringing[0] = 0.0
        assert np.max(np.abs(ringing[n:])) < 10 ** (-115 / 20) * np.max(np.abs(ringing))
