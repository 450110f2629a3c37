"""What filters do to a sum: they turn phase, so that mics of one drum add up otherwise than their curves say."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.spectrum import axis_hz, spectrum_db, tukey, window_starts

LENGTH_S, EARLY_S = 0.2, 0.004
MOST_HITS = 40
THIN_DB = 1.0  # more lost in the sum than in any mic by itself
QUIET_DB = 30.0  # below the loudest: nobody hears what is lost there
LOOKED_AT_HZ = (40.0, 8000.0)
THIRD = 4  # points of the axis


@dataclass(frozen=True, slots=True)
class Together:
    """Spectra of a sum in dB on ``spectrum.axis_hz``, without filters and with.

    thinned : where the sum loses more than any of its mics, as (Hz, dB), or None
    """

    before_db: tuple[float, ...]
    after_db: tuple[float, ...]
    thinned: tuple[float, float] | None

    def plain(self) -> dict:
        """Return it as plain data."""
        return {
            "before_db": list(self.before_db),
            "after_db": list(self.after_db),
            "thinned": self.thinned and list(self.thinned),
        }


def together(
    before: Sequence[np.ndarray], after: Sequence[np.ndarray], hits_s: Sequence[float], sample_rate_hz: int
) -> Together:
    """Compare strips that add up without their filters and with them, float32 [each shape=(samples,)], at hits in s from their start."""
    rate, size = sample_rate_hz, int(LENGTH_S * sample_rate_hz)
    begins = window_starts(hits_s, EARLY_S, size, before[0].size, rate, MOST_HITS)
    fade = tukey(size, 0.1)

    def spectrum(x: np.ndarray) -> np.ndarray:
        return spectrum_db([x[b : b + size] * fade for b in begins], rate)

    was, now = (spectrum(np.sum(np.asarray(rows, float), axis=0)) for rows in (before, after))
    alone = np.array([spectrum(y) - spectrum(x) for x, y in zip(before, after, strict=True)])
    lost = _smooth(now - was) - np.minimum(_smooth(alone.min(axis=0)), 0.0)
    axis = axis_hz(rate)
    lost[(was < was.max() - QUIET_DB) | (axis < LOOKED_AT_HZ[0]) | (axis > LOOKED_AT_HZ[1])] = 0.0
    worst = int(np.argmin(lost))
    thinned = (round(float(axis[worst]), 1), round(float(lost[worst]), 1)) if lost[worst] < -THIN_DB else None
    return Together(tuple(np.round(was, 2).tolist()), tuple(np.round(now, 2).tolist()), thinned if begins else None)


def _smooth(levels_db: np.ndarray) -> np.ndarray:
    return np.convolve(levels_db, np.full(THIRD, 1.0 / THIRD), "same")
