"""What clippers, saturation and limiters add to hits that no equaliser could: what is left once each third octave has its best gain."""

from collections.abc import Sequence

import numpy as np
from scipy.fft import rfft, rfftfreq

from arkund.core.card.measure import LEAST_HITS
from arkund.core.dsp.spectrum import third_octaves_hz
from arkund.core.units import power_to_db

HIT_MS = (-5.0, 45.0)
THIRDS_HZ = third_octaves_hz(31.5, 16_000.0)
LEAST_DB = -50.0  # less is not heard


def residual_db(before: np.ndarray, after: np.ndarray, times_s: Sequence[float], sample_rate_hz: int) -> float | None:
    """Return the power of what a tool made of hits and no gain by third octaves explains, against all that it gave, in dB: LEAST_DB for a wire, whatever its
    gain; None where hits are too few or silent.

    before, after : float32 [shape=(samples, channels)], what came in and what came out at the same moments. The best gain of a band is that of all hits and
    channels together (least squares).
    """
    first, last = (round(ms * sample_rate_hz / 1000.0) for ms in HIT_MS)
    at = np.array([round(t * sample_rate_hz) for t in times_s], dtype=np.int64)
    at = at[(at + first >= 0) & (at + last <= before.shape[0])]
    if at.size < LEAST_HITS:
        return None
    places = at[:, None] + np.arange(first, last)
    window = np.hanning(last - first)[:, None].astype(np.float32)
    x, y = (rfft(each[places] * window, axis=1) for each in (before, after))
    number = np.searchsorted(THIRDS_HZ * 2.0 ** (1.0 / 6.0), rfftfreq(last - first, 1.0 / sample_rate_hz))
    lowest = THIRDS_HZ[0] * 2.0 ** (-1.0 / 6.0)
    left = given = 0.0
    for band in range(THIRDS_HZ.size):
        mine = (number == band) & (rfftfreq(last - first, 1.0 / sample_rate_hz) >= lowest)
        a, b = x[:, mine], y[:, mine]
        power, all_of_it = float(np.sum(np.abs(a) ** 2)), float(np.sum(np.abs(b) ** 2))
        shared = abs(complex(np.sum(np.conj(a) * b))) ** 2 / power if power > 0.0 else 0.0
        left, given = left + max(all_of_it - shared, 0.0), given + all_of_it
    return max(float(power_to_db(left / given)), LEAST_DB) if given > 0.0 else None
