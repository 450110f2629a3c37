"""What the detectors of a bank listen to: their own lane or a key, earlier by a look-ahead, through filters."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from arkund.core.dsp import _mixing
from arkund.core.dsp.bank import BLOCK, Filters, fresh
from arkund.core.dsp.filters import Biquad, band, high_shelf
from arkund.core.tools.tool import Key
from arkund.core.units import db_to_gain

TILT_HZ, TILT_Q, LEAST_TILT_DB = 800.0, 0.35, 0.05


def key_filter(key: Key, order: int, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return the sections that a detector listens through; at the ends of their ranges the filters are none."""
    if key.of.startswith("hits:"):  # which are no sound: there is nothing to be filtered
        return ()
    return (*band(key.low_hz, key.high_hz, order, sample_rate_hz), *_tilt(key.tilt_db, sample_rate_hz))


def _tilt(tilt_db: float, rate: int) -> tuple[Biquad, ...]:
    """Return one section from -tilt_db at the bottom to +tilt_db at the top, through 0 dB at TILT_HZ: a shelf of twice as much, lowered."""
    if abs(tilt_db) < LEAST_TILT_DB:
        return ()
    shelf, lower = high_shelf(TILT_HZ, 2.0 * tilt_db, TILT_Q, rate), float(db_to_gain(-tilt_db))
    return (replace(shelf, b0=lower * shelf.b0, b1=lower * shelf.b1, b2=lower * shelf.b2),)


class Detectors:
    """The keys of a bank's lanes, that keep their filters' state from block to block.

    keyed : lanes that hear a key from elsewhere; early : samples by which each lane's detector hears what is still to come
    """

    def __init__(
        self, cascades: Sequence[Sequence[Biquad]], early: Sequence[int], keyed: Sequence[bool], width: int
    ) -> None:
        self._filters = Filters(cascades, width)
        self._early = np.zeros(width, np.int64)
        self._early[: len(early)] = early
        self._keyed = np.zeros(width, bool)
        self._keyed[: len(keyed)] = keyed
        self.ahead = int(self._early.max())
        self.plain = not (self._filters.depth or self.ahead or self._keyed.any())

    def hear(self, bank: np.ndarray, key: np.ndarray | None, count: int) -> np.ndarray:
        """Return what is heard at the first ``count`` rows of a bank whose rows beyond are only looked at, as a new bank [shape=(count, width)].

        key : a bank of the same shape, whose lanes count where they are keyed
        """
        heard = bank if key is None or not self._keyed.any() else np.where(self._keyed, key, bank)
        out = fresh(count, bank.shape[1])
        _mixing.BANKS[bank.shape[1]].looking_ahead(heard.reshape(-1), self._early, out.reshape(-1))
        self._filters.run(out)
        return out

    def prime(self, bank: np.ndarray, key: np.ndarray | None) -> np.ndarray | None:
        """Return what is heard before the very first row: of silence, what lies within the look-ahead; None where nothing does."""
        if not self.ahead:
            return None
        rows = -(-self.ahead // BLOCK) * BLOCK  # as if silence had come before
        before = np.zeros((rows + self.ahead, bank.shape[1]), np.float32)
        before[rows:] = bank[: self.ahead]
        keys = None
        if key is not None:
            keys = np.zeros_like(before)
            keys[rows:] = key[: self.ahead]
        return self.hear(before, keys, rows)
