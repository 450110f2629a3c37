"""Filters whose gain moves while their poles stay, so that it may change at every sample: y = x + (G - 1) a + (g - 1) b with g the root of G.

Moved as far as it may, such a filter is the matched static one of that gain, so that a band sounds the same whether it stands or has moved there, at every
sample rate: a and b are what that one's output is more than its input, in the state-variable form. On the way a bell has that width; a shelf, whose b
passes the band, is (s^2 + k g s + G) / (s^2 + k s + 1): where k is the damping of a Butterworth filter its power is (w^4 + G^2) / (w^4 + 1), monotonic at
every gain. Where G is 1 the signal is untouched to the last bit.

References
    V. Zavalishin, The Art of VA Filter Design (2018), section 4: the state-variable form.
"""

import math
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp import filters
from arkund.core.dsp.filters import Biquad
from arkund.core.units import db_to_gain

SHAPES = ("bell", "low_shelf", "high_shelf")
Mix = tuple[float, float, float]  # of the input, of what passes the band, of what passes below it


@dataclass(frozen=True, slots=True)
class Moving:
    """Poles (g = tan(pi f / rate), k = damping) and what of the input, of the band and of what lies below moves with G and with its root.

    listens : what of these its level is read from
    """

    g: float
    k: float
    with_gain: Mix
    with_root: float
    listens: Mix

    def coefficients(self) -> tuple[float, float, float]:
        """Return 2 (a1 - 1), 2 a2, 2 a3 of its state-variable form, as ``Biquad.state_variable`` does."""
        a1 = 1.0 / (1.0 + self.g * (self.g + self.k))
        return -2.0 * self.g * (self.g + self.k) * a1, 2.0 * self.g * a1, 2.0 * self.g * self.g * a1

    def settle_samples(self) -> int:
        """Return after how many samples it has forgotten."""
        a0 = 1.0 + self.k * self.g + self.g * self.g
        return Biquad(
            1.0, 0.0, 0.0, 2.0 * (self.g * self.g - 1.0) / a0, (1.0 - self.k * self.g + self.g * self.g) / a0
        ).settle_samples()

    def response(self, gain_db: float, frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
        """Return the complex response where the gain stands still."""
        s = 1j * np.tan(np.pi * np.asarray(frequency_hz) / sample_rate_hz) / self.g
        below = 1.0 / (s * s + self.k * s + 1.0)
        gain, root = float(db_to_gain(gain_db)), float(db_to_gain(gain_db / 2.0))
        of_input, of_band, of_below = self.with_gain
        moved = of_input + (of_band * s + of_below) * below
        return 1.0 + (gain - 1.0) * moved + (root - 1.0) * self.with_root * s * below


def low_shelf(frequency_hz: float, damping: float, sample_rate_hz: int) -> Moving:
    """Return a section of a low shelf; several of them, with the dampings of a Butterworth filter, make a steeper one."""
    g = math.tan(math.pi * frequency_hz / sample_rate_hz)
    return Moving(g, damping, (0.0, 0.0, 1.0), damping, (0.0, 0.0, 1.0))


def moving(shape: str, frequency_hz: float, q: float, furthest_db: float, sample_rate_hz: int) -> Moving:
    """Return a filter of SHAPES that moves up to ``furthest_db``, either way and not 0, where it is the static one of that gain."""
    still = getattr(filters, shape)(frequency_hz, furthest_db, q, sample_rate_hz)
    g, k, (of_input, of_band, of_below) = still.mixed()
    gain, root = (float(db_to_gain(furthest_db / part)) - 1.0 for part in (1.0, 2.0))
    of_input -= 1.0
    if shape == "bell":
        return Moving(g, k, (of_input / gain, of_band / gain, of_below / gain), 0.0, (0.0, k, 0.0))
    listens = (0.0, 0.0, 1.0) if shape == "low_shelf" else (1.0, -k, -1.0)
    steep = of_band + k * of_input  # what passes above is the input less k times the band and what passes below
    return Moving(g, k, (of_input / gain, -k * of_input / gain, of_below / gain), steep / root, listens)
