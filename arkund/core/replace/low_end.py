"""What carries a drum's low end, by band: each strip by itself, and what they are together. One of them should own it, and nothing should cancel."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy.fft

from arkund.core.dsp.spectrum import window_starts
from arkund.core.units import db_to_power, power_to_db

BANDS_HZ = (25.0, 31.5, 40.0, 50.0, 63.0, 80.0, 100.0, 125.0, 160.0, 200.0)  # middles of third octaves
MAIN_HZ = (40.0, 110.0)
SNARE_BANDS_HZ = (80.0, 100.0, 125.0, 160.0, 200.0, 250.0, 315.0, 400.0, 500.0, 630.0, 800.0)
MAIN_OF_HZ = {"kick": MAIN_HZ, "snare": (120.0, 400.0)}  # where a drum has its body; toms by their sizes
MAIN_TOM_HZ = (60.0, 250.0)
DEEP_HZ = 125.0
BEFORE_S, AFTER_S = 0.005, 0.2
MOST_HITS = 40
QUIETEST_DB = -100.0
Span = tuple[float, float]


@dataclass(frozen=True, slots=True)
class LowEnd:
    """Levels in dB at a drum's hits.

    bands_hz : the middles of the bands; by_strip : of each strip, in them; sum_db : of all together; main_db, sum_main_db : the same in the main band alone
    """

    bands_hz: tuple[float, ...]
    by_strip: dict[str, tuple[float, ...]]
    sum_db: tuple[float, ...]
    main_db: dict[str, float]
    sum_main_db: float

    def whole_db(self, strip: str = "") -> float:
        """Return the level of a strip, or of all together, in all bands up to 125 Hz."""
        rows = self.by_strip[strip] if strip else self.sum_db
        deep = [db_to_power(db) for db, hz in zip(rows, self.bands_hz, strict=True) if hz <= DEEP_HZ]
        return float(power_to_db(sum(deep)))

    @property
    def strongest(self) -> str:
        """Return what carries most of it."""
        return max(self.main_db, key=self.main_db.__getitem__)

    @property
    def gain_db(self) -> float:
        """Return what the others add to the strongest; below 0 they take from it."""
        return round(self.sum_main_db - self.main_db[self.strongest], 1)


def main_hz(piece: str) -> Span:
    """Return the band in which a drum has its body."""
    return MAIN_OF_HZ.get(piece, MAIN_TOM_HZ)


def bands_hz(piece: str) -> tuple[float, ...]:
    """Return the bands in which a drum is looked at."""
    return SNARE_BANDS_HZ if piece == "snare" else BANDS_HZ


def low_end(
    strips: Mapping[str, np.ndarray], hits_s: Sequence[float], sample_rate_hz: int, piece: str = "kick"
) -> LowEnd | None:
    """Measure strips as they add up, float32 [each shape=(samples,)], at a drum's hits, in s from their start; None without hits, and of silence.

    piece : the drum, which decides the bands
    """
    main, bands = main_hz(piece), bands_hz(piece)
    rate, size = sample_rate_hz, int((BEFORE_S + AFTER_S) * sample_rate_hz)
    length = min((x.size for x in strips.values()), default=0)
    begins = window_starts(hits_s, BEFORE_S, size, length, rate, MOST_HITS)
    if not begins:
        return None
    powers = {name: _power([x[b : b + size] for b in begins], rate) for name, x in strips.items()}
    together = _power([sum(x[b : b + size] for x in strips.values()) for b in begins], rate)
    edges = [(hz * 2.0 ** (-1 / 6), hz * 2.0 ** (1 / 6)) for hz in bands]
    levels = {name: tuple(_level_db(power, edge, rate, size) for edge in edges) for name, power in powers.items()}
    mains = {name: _level_db(power, main, rate, size) for name, power in powers.items()}
    if max(mains.values()) <= QUIETEST_DB:
        return None
    return LowEnd(
        bands,
        levels,
        tuple(_level_db(together, edge, rate, size) for edge in edges),
        mains,
        _level_db(together, main, rate, size),
    )


def _power(windows: Sequence[np.ndarray], rate: int) -> np.ndarray:
    """Return the mean power spectrum of windows, each faded out in its last quarter."""
    size = windows[0].size
    quarter = size // 4
    fade = np.concatenate([np.ones(size - quarter), 0.5 + 0.5 * np.cos(np.pi * np.arange(quarter) / quarter)])
    spectra = scipy.fft.rfft(np.stack(windows) * fade.astype(np.float32), _padded(size, rate), axis=1)
    return np.mean(np.abs(spectra) ** 2, axis=0, dtype=np.float64) / size**2


def _padded(size: int, rate: int) -> int:
    return max(size, rate)  # bins of one hertz and less


def _level_db(power: np.ndarray, edge: Span, rate: int, size: int) -> float:
    first, last = (math.ceil(hz * _padded(size, rate) / rate) for hz in edge)
    return round(max(float(power_to_db(float(power[first:last].sum()))), QUIETEST_DB), 1)


def turned_over_db(
    strips: Mapping[str, np.ndarray], name: str, hits_s: Sequence[float], sample_rate_hz: int, piece: str = "kick"
) -> float:
    """Return by how much the sum's main band rises when one of the strips is turned over, in dB; 0 where it is not there or nothing is measured.

    Filters turn phase: what was in polarity when it was recorded need not be when it is heard.
    """
    if name not in strips:
        return 0.0
    turned = {key: -x if key == name else x for key, x in strips.items()}
    was, now = (low_end(some, hits_s, sample_rate_hz, piece) for some in (strips, turned))
    return now.sum_main_db - was.sum_main_db if was and now else 0.0
