"""How much of the past an operation must have heard before its output can be trusted, and operations one after the other.

Filters and hold times forget after a number of samples, followers by time constants. Operations in a row forget at the same time, so that a row needs
less than its parts need one by one.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import accumulate
from math import ceil, exp

import numpy as np

from arkund.core.dsp.filters import Biquad

TIME_CONSTANTS = 11.5  # after as many of them a difference of 20 dB has shrunk to 0.0002 dB, an error of -92 dB
STEPS = 100  # of the slowest time constant, in which a row of followers is worked out
MOST_TIME_CONSTANTS = 64
RATIO_DIGITS = 2  # time constants against the slowest are rounded up to this


@dataclass(frozen=True, slots=True)
class Reach:
    """What an operation must hear beyond a span.

    exact : samples after which a memory is gone altogether; slow : time constants in samples of the followers that come one after the other;
    after : samples of look-ahead.
    """

    exact: int = 0
    slow: tuple[float, ...] = ()
    after: int = 0

    def __add__(self, later: "Reach") -> "Reach":
        """Return what this operation and one behind it need together."""
        return Reach(self.exact + later.exact, self.slow + later.slow, self.after + later.after)

    @property
    def before(self) -> int:
        """How many samples before a span must be heard."""
        if not self.slow:
            return self.exact
        slowest = max(self.slow)
        ratios = tuple(ceil(each / slowest * 10**RATIO_DIGITS) / 10**RATIO_DIGITS for each in self.slow)
        return self.exact + ceil(forgotten(ratios) * slowest)


NOTHING = Reach()


def of_follower(time_ms: float, sample_rate_hz: int) -> Reach:
    """Return what a one-pole follower needs."""
    return Reach(slow=(time_ms * sample_rate_hz / 1000.0,))


def of_cascades(cascades: Iterable[Sequence[Biquad]]) -> Reach:
    """Return what the slowest of some cascades of sections needs."""
    return Reach(max((sum(section.settle_samples() for section in cascade) for cascade in cascades), default=0))


@lru_cache(maxsize=512)
def forgotten(time_constants: tuple[float, ...]) -> float:
    """Return after what time a row of followers is right, in the unit of their time constants.

    Each begins wrong by as much as the others, adds the rest of its own mistake to that of its input, and follows that with its lag: in decibels
    e_k(t) = e_{k-1}(t) + exp(-t / T_k) + (h_k * e_{k-1})(t), h_k the impulse response of a one-pole of T_k. An upper bound: a follower's gain moves at
    most by what its input does.
    """
    longest = max(time_constants)
    step = longest / STEPS
    t = np.arange(STEPS * MOST_TIME_CONSTANTS) * step
    wrong = np.zeros(t.size)
    for each in time_constants:
        pole = exp(-step / each) if each > 0.0 else 0.0
        followed = accumulate(wrong[:-1], lambda y, x, pole=pole: pole * y + (1.0 - pole) * x, initial=0.0)
        wrong = wrong + np.power(pole, t / step) + np.fromiter(followed, float)
    return float(t[np.flatnonzero(wrong > exp(-TIME_CONSTANTS))[-1]] + step)
