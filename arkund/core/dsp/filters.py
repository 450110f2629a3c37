"""Filters: analogue prototypes, matched to the digital domain without cramping, as state-variable sections.

A *section* is a digital biquad kept in the topology-preserving state-variable form, which stays exact in
float32 at low frequencies and may change its settings while running.

References
    V. Zavalishin, The Art of VA Filter Design (2018), section 4: the state-variable form.
    M. Vicanek, Matched Second Order Digital Filters (2016): poles by impulse invariance, numerator from the
    squared magnitude, which is linear in (B0, B1, B2).
"""

import functools
import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.units import db_to_gain, gain_to_db, power_to_db

HIGHEST_SHARE = 0.499  # of the sample rate: the highest frequency that a filter may be tuned to
FIT_POINTS = 96  # frequencies at which a numerator is fitted
MOST_EVALUATIONS = 120  # of a fit
QUICK_EVALUATIONS = 8  # where a filter has up to four sections and is to follow the hand that drags it
SECOND_POLE = math.exp(-3.0)  # of a section of first order, where the search begins
BILINEAR_SHARE = 0.01  # of the sample rate: below it the bilinear transform bends a high-pass by less than 0.02 dB
GOOD_FIT_DB = 0.05  # a fit this good is not refined further
REACH_DB = 120.0  # a filter has settled when its ringing has fallen this far
FALLEN = float(db_to_gain(-REACH_DB))


LOWEST_HZ, HIGHEST_HZ = 20.0, 20_000.0  # that are heard


@dataclass(frozen=True, slots=True)
class Biquad:
    """H(z) = (b0 + b1/z + b2/z^2) / (1 + a1/z + a2/z^2)."""

    b0: float
    b1: float
    b2: float
    a1: float
    a2: float

    def response(self, frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
        """Return the complex response at frequencies in Hz."""
        z = np.exp(-2j * np.pi * np.asarray(frequency_hz) / sample_rate_hz)
        return (self.b0 + z * (self.b1 + z * self.b2)) / (1.0 + z * (self.a1 + z * self.a2))

    def state_variable(self) -> tuple[float, float, float, float, float, float]:
        """Return 2 (a1 - 1), 2 a2, 2 a3 of the equivalent state-variable section, and its output's share of input, first state, and input without
        the second state: its mix m0 v0 + m1 v1 + m2 v2 with v1 = a1 ic1 + a2 v3, v2 = ic2 + a2 ic1 + a3 v3 and v3 = v0 - ic2.

        a1 is near 1 for low frequencies: what it lacks is what float32 would lose.
        """
        g, k, (m0, m1, m2) = self.mixed()
        a1 = 1.0 / (1.0 + g * (g + k))
        a2, a3 = g * a1, g * g * a1
        return -2.0 * g * (g + k) * a1, 2.0 * a2, 2.0 * a3, m0 + m2, m1 * a1 + m2 * a2, m1 * a2 + m2 * (a3 - 1.0)

    def mixed(self) -> tuple[float, float, tuple[float, float, float]]:
        """Return g = tan(pi f / rate) and the damping of its poles, and how much of the input, of what passes the band, and of what passes below it, it is."""
        plus, minus = 1.0 + self.a1 + self.a2, 1.0 - self.a1 + self.a2
        g, a0 = math.sqrt(plus / minus), 4.0 / minus
        m0 = (self.b0 - self.b1 + self.b2) / minus
        m1 = a0 / (2.0 * g) * ((self.b0 - self.b2) - m0 * (1.0 - self.a2))
        return g, (1.0 - self.a2) * a0 / (2.0 * g), (m0, m1, (self.b0 + self.b1 + self.b2) / plus - m0)

    def settle_samples(self) -> int:
        """Return after how many samples the impulse response has fallen by REACH_DB."""
        apart = self.a1 * self.a1 - 4.0 * self.a2  # the poles are real where this is not negative
        radius = math.sqrt(self.a2) if apart < 0.0 else 0.5 * (abs(self.a1) + math.sqrt(apart))
        if radius < 1e-6:
            return 4
        return math.ceil(math.log(FALLEN) / math.log(min(radius, 1.0 - 1e-9)))


def bell(frequency_hz: float, gain_db: float, q: float, sample_rate_hz: int) -> Biquad:
    """Return a matched bell: gain_db at frequency_hz, unity at DC; q is f / bandwidth at half the gain in dB."""
    _check(frequency_hz, q, sample_rate_hz)
    a = float(db_to_gain(gain_db / 2.0))
    return _matched((1.0, a / q, 1.0), (1.0, 1.0 / (a * q), 1.0), frequency_hz, sample_rate_hz)


def low_shelf(frequency_hz: float, gain_db: float, q: float, sample_rate_hz: int) -> Biquad:
    """Return a matched low shelf with half its gain in dB at frequency_hz."""
    _check(frequency_hz, q, sample_rate_hz)
    a = float(db_to_gain(gain_db / 2.0))
    root = math.sqrt(a) / q
    return _matched((a, a * root, a * a), (a, root, 1.0), frequency_hz, sample_rate_hz)


def high_shelf(frequency_hz: float, gain_db: float, q: float, sample_rate_hz: int) -> Biquad:
    """Return a matched high shelf with half its gain in dB at frequency_hz."""
    _check(frequency_hz, q, sample_rate_hz)
    a = float(db_to_gain(gain_db / 2.0))
    root = math.sqrt(a) / q
    return _matched((a * a, a * root, a), (1.0, root, a), frequency_hz, sample_rate_hz)


def high_pass(
    frequency_hz: float, order: int, sample_rate_hz: int, resonance_db: float = 0.0, matched: bool = True
) -> tuple[Biquad, ...]:
    """Return a matched Butterworth high-pass of order 1-8 (6 dB/octave each), -3.01 dB at frequency_hz, and with a resonance so much more.

    It follows the analogue curve within 0.5 dB (0.55 at order 8) up to 20 kHz where it lets more than a thousandth through, and within 1.6 dB with strong
    resonances near half the sample rate. matched : else it is bent towards half the sample rate, as the bilinear transform does
    """
    _check(frequency_hz, 1.0, sample_rate_hz)
    section = _high_pass_section if matched else _bilinear_high_pass
    return tuple(
        section(denominator, frequency_hz, sample_rate_hz)
        for denominator in _butterworth_denominators(order, resonance_db)
    )


def low_pass(frequency_hz: float, order: int, sample_rate_hz: int, resonance_db: float = 0.0) -> tuple[Biquad, ...]:
    """Return a matched Butterworth low-pass of order 1-8 (6 dB/octave each), -3.01 dB at frequency_hz, and with a resonance so much more.

    It follows the analogue curve within 0.5 dB (0.55 at order 8) up to 20 kHz where it lets more than a hundredth through, so that sessions of all
    rates sound alike.
    """
    _check(frequency_hz, 1.0, sample_rate_hz)
    return tuple(
        _matched((0.0, 0.0, 1.0), denominator, frequency_hz, sample_rate_hz, QUICK_EVALUATIONS)
        for denominator in _butterworth_denominators(order, resonance_db)
    )


def band(low_hz: float, high_hz: float, order: int, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return Butterworth sections that pass what lies between two frequencies; at the ends of hearing there are none."""
    low = high_pass(low_hz, order, sample_rate_hz) if low_hz > LOWEST_HZ else ()
    high = low_pass(min(high_hz, 0.49 * sample_rate_hz), order, sample_rate_hz) if high_hz < HIGHEST_HZ else ()
    return (*low, *high)


def magnitude_db(sections: tuple[Biquad, ...], frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the magnitude in dB of a cascade of sections at frequencies in Hz."""
    each = [gain_to_db(section.response(frequency_hz, sample_rate_hz)) for section in sections]
    return np.sum(each, axis=0) if each else np.zeros(np.shape(frequency_hz))


def analogue_db(numerator, denominator, frequency_hz: np.ndarray, centre_hz: float) -> np.ndarray:
    """Return the magnitude in dB of an analogue prototype (coefficients of s^2, s, 1) tuned to centre_hz."""
    return power_to_db(_analogue_power(numerator, denominator, frequency_hz, centre_hz))


def _analogue_power(numerator, denominator, frequency_hz: np.ndarray, centre_hz: float) -> np.ndarray:
    """Return its power, however small: a fit must not follow the floor of figures in dB."""
    s = 1j * np.asarray(frequency_hz) / centre_hz
    return np.abs(np.polyval(numerator, s) / np.polyval(denominator, s)) ** 2


def _check(frequency_hz: float, q: float, sample_rate_hz: int) -> None:
    if not 0.0 < frequency_hz <= HIGHEST_SHARE * sample_rate_hz:
        raise SettingsError(
            f"frequency_hz: {frequency_hz:g} Hz is outside 0 to {HIGHEST_SHARE * sample_rate_hz:g} Hz,"
            f" the range of a {sample_rate_hz} Hz recording."
        )
    if not q > 0.0:
        raise SettingsError(f"q: expected a number above 0, got {q!r}.")


def _butterworth_denominators(order: int, resonance_db: float = 0.0) -> list[tuple[float, float, float]]:
    """Return the analogue denominators (of s^2, s, 1) of a Butterworth filter's sections; an odd order ends with one of first order.

    At its frequency a section of second order passes 1 / damping: the least damped one makes the resonance.
    """
    if not 1 <= order <= 8:
        raise SettingsError(f"order: expected 1 to 8 (6 to 48 dB/octave), got {order!r}.")
    dampings = [2.0 * math.sin(math.pi * (2 * pair + 1) / (2 * order)) for pair in range(order // 2)]
    if dampings:
        dampings[0] /= float(db_to_gain(resonance_db))
    return [(1.0, damping, 1.0) for damping in dampings] + [(0.0, 1.0, 1.0)] * (order % 2)


def _bilinear(numerator, denominator, frequency_hz: float, sample_rate_hz: int) -> Biquad:
    g = math.tan(math.pi * frequency_hz / sample_rate_hz)
    n2, n1, n0 = numerator
    d2, d1, d0 = denominator
    a0 = d2 + d1 * g + d0 * g * g
    return Biquad(
        b0=(n2 + n1 * g + n0 * g * g) / a0,
        b1=2.0 * (n0 * g * g - n2) / a0,
        b2=(n2 - n1 * g + n0 * g * g) / a0,
        a1=2.0 * (d0 * g * g - d2) / a0,
        a2=(d2 - d1 * g + d0 * g * g) / a0,
    )


def _bilinear_high_pass(denominator, frequency_hz: float, sample_rate_hz: int) -> Biquad:
    """Return a section of a high-pass, of first order where its denominator has no s^2."""
    if denominator[0]:
        return _bilinear((1.0, 0.0, 0.0), denominator, frequency_hz, sample_rate_hz)
    g = math.tan(math.pi * frequency_hz / sample_rate_hz)
    return Biquad(1.0 / (1.0 + g), -1.0 / (1.0 + g), 0.0, -(1.0 - g) / (1.0 + g), 0.0)


@functools.lru_cache(maxsize=2048)
def _high_pass_section(denominator, frequency_hz: float, sample_rate_hz: int) -> Biquad:
    """Match an analogue section of a high-pass: its zeros stay at 0 Hz, its poles and its gain are fitted. Where it lies low the bilinear one is as good."""
    if frequency_hz < BILINEAR_SHARE * sample_rate_hz:
        return _bilinear_high_pass(denominator, frequency_hz, sample_rate_hz)
    if not denominator[0]:
        return _matched((0.0, 1.0, 0.0), denominator, frequency_hz, sample_rate_hz, QUICK_EVALUATIONS)
    grid_hz = _fit_grid_hz(frequency_hz, sample_rate_hz)
    wanted_db = power_to_db(_analogue_power((1.0, 0.0, 0.0), denominator, grid_hz, frequency_hz))

    def fitted(a: np.ndarray) -> tuple[Biquad, np.ndarray]:
        error = gain_to_db(Biquad(1.0, -2.0, 1.0, *a).response(grid_hz, sample_rate_hz)) - wanted_db
        middle = 0.5 * (error.max() + error.min())
        gain = float(db_to_gain(-middle))
        return Biquad(gain, -2.0 * gain, gain, *a), error - middle

    bilinear = _bilinear((1.0, 0.0, 0.0), denominator, frequency_hz, sample_rate_hz)
    starts = (np.array([bilinear.a1, bilinear.a2]), _impulse_invariant(denominator, frequency_hz, sample_rate_hz))
    found = [_refined(fitted, start, QUICK_EVALUATIONS) for start in starts]
    return min(found, key=lambda each: np.abs(each[1]).max())[0]


Fitted = Callable[[np.ndarray], tuple[Biquad, np.ndarray]]


def _refined(fitted: Fitted, start: np.ndarray, evaluations: int) -> tuple[Biquad, np.ndarray]:
    """Return the section to which a fit comes from some poles (a1, a2), and its deviation in dB.

    fitted : gives the best section with some poles and its deviation; the fourth power of that is summed, which pulls the largest down
    """
    from scipy.optimize import least_squares  # a slow import, needed for refinement only

    def residual(free: np.ndarray) -> np.ndarray:
        error = fitted(_stable(free))[1]
        return error * np.abs(error)

    return fitted(_stable(least_squares(residual, _free(start), max_nfev=evaluations).x))


def _impulse_invariant(denominator, frequency_hz: float, sample_rate_hz: int) -> np.ndarray:
    """Return the poles (a1, a2) of an analogue denominator by impulse invariance; one of first order gets a second pole."""
    w0 = 2.0 * math.pi * frequency_hz / sample_rate_hz
    poles = np.exp(np.roots(denominator) * w0)
    z = poles if poles.size == 2 else np.array([poles[0], SECOND_POLE])
    return np.array([-(z[0] + z[1]).real, (z[0] * z[1]).real])


def _fit_grid_hz(frequency_hz: float, sample_rate_hz: int) -> np.ndarray:
    """Return frequencies at which a section is fitted: over all that is heard, and closer around its own."""
    top_hz = min(HIGHEST_HZ, 0.4995 * sample_rate_hz)
    around = frequency_hz * np.geomspace(0.25, 4.0, FIT_POINTS // 2)
    return np.unique(np.concatenate([np.geomspace(LOWEST_HZ, top_hz, FIT_POINTS), np.clip(around, LOWEST_HZ, top_hz)]))


@functools.lru_cache(maxsize=2048)
def _matched(
    numerator, denominator, frequency_hz: float, sample_rate_hz: int, evaluations: int = MOST_EVALUATIONS
) -> Biquad:
    """Match an analogue section of first or second order: impulse-invariant poles, numerator fitted to the squared magnitude.

    The fit is a weighted linear least squares in Vicanek's basis (1 - p, p, 4 p (1 - p)), p = sin^2(w/2), which keeps
    the gain at DC exact; the poles are then refined so that the deviation in dB is smallest up to 20 kHz. A section of first order gets a second pole, which
    frees what the fit needs.
    """
    grid_hz = _fit_grid_hz(frequency_hz, sample_rate_hz)
    wanted = _analogue_power(numerator, denominator, grid_hz, frequency_hz)
    dc = (numerator[2] / denominator[2]) ** 2
    start = _impulse_invariant(denominator, frequency_hz, sample_rate_hz)

    def fitted(a: np.ndarray) -> tuple[Biquad, np.ndarray]:
        section = _numerator(a[0], a[1], grid_hz, wanted, dc, sample_rate_hz)
        got = np.abs(section.response(grid_hz, sample_rate_hz)) ** 2
        return section, power_to_db(np.maximum(got, 1e-12) / wanted)

    section, error = fitted(start)
    starts = [start]
    if evaluations == MOST_EVALUATIONS:
        bilinear = _bilinear(numerator, denominator, frequency_hz, sample_rate_hz)
        starts.append(np.array([bilinear.a1, bilinear.a2]))
    for poles_from in starts:
        if np.max(np.abs(error)) < GOOD_FIT_DB:
            break
        other, error_other = _refined(fitted, poles_from, evaluations)
        if np.max(np.abs(error_other)) < np.max(np.abs(error)):
            section, error = other, error_other
    return section


def _free(a: np.ndarray) -> np.ndarray:
    """Map stable (a1, a2) to two unbounded numbers: g^2 and k*g of the state-variable form, as logarithms."""
    plus, minus = 1.0 + a[0] + a[1], 1.0 - a[0] + a[1]
    return np.log([plus / minus, 2.0 * (1.0 - a[1]) / minus])


def _stable(free: np.ndarray) -> np.ndarray:
    g2, kg = np.exp(np.clip(free, -40.0, 12.0))
    a0 = 1.0 + kg + g2
    return np.array([2.0 * (g2 - 1.0) / a0, (1.0 - kg + g2) / a0])


def _numerator(a1: float, a2: float, grid_hz, wanted, dc: float, sample_rate_hz: int) -> Biquad:
    p = np.sin(np.pi * grid_hz / sample_rate_hz) ** 2
    A0, A1, A2 = (1.0 + a1 + a2) ** 2, (1.0 - a1 + a2) ** 2, -4.0 * a2
    den = A0 * (1.0 - p) + A1 * p + A2 * 4.0 * p * (1.0 - p)
    target = wanted * den
    B0 = dc * A0
    weight = 1.0 / target
    basis = np.stack([p, 4.0 * p * (1.0 - p)], axis=1)
    (B1, B2), *_ = np.linalg.lstsq(basis * weight[:, None], (target - B0 * (1.0 - p)) * weight, rcond=None)
    B1 = max(B1, 0.0)
    r0, r1 = math.sqrt(B0), math.sqrt(B1)
    w = 0.5 * (r0 + r1)
    b0 = 0.5 * (w + math.sqrt(max(w * w + B2, 0.0)))
    b2 = -B2 / (4.0 * b0) if b0 else 0.0
    return Biquad(b0, 0.5 * (r0 - r1), b2, a1, a2)
