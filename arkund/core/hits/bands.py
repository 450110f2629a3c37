"""Power of each mic in a few frequency bands over time: what the hit finder looks at."""

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from arkund.core.beside import WORKERS
from arkund.core.dsp import _filters
from arkund.core.dsp.bank import WIDE, bank_of
from arkund.core.dsp.filters import high_pass, low_pass

FRAMES_PER_S = 1000
EDGES_HZ = (30.0, 110.0, 300.0, 900.0, 2500.0, 6000.0, 15000.0)
BANDS = len(EDGES_HZ) - 1
QUARTERS = 4  # per frame: how finely arrivals are told apart
ARRIVAL_HZ = (300.0, 3000.0)  # lower edges of the two wide bands in which arrivals are looked for
BLOCK_S = 8.0
SETTLE_S = 0.25


class Reader(Protocol):
    """Audio that can be read at any place: a mic's file, or an array in a test."""

    @property
    def length(self) -> int: ...

    def read(self, start: int, stop: int) -> np.ndarray: ...


@dataclass(frozen=True, slots=True)
class Bands:
    """Power of all mics, full scale = 1."""

    power: np.ndarray  # mean square, float32 [shape=(frames, mics, BANDS)], one frame per millisecond
    quick: np.ndarray  # largest square above ARRIVAL_HZ, float32 [shape=(frames * QUARTERS, mics, 2)]


def measure_bands(readers: Sequence[Reader], sample_rate_hz: int, on_progress=lambda share: None) -> Bands:
    """Measure the power of mics that start at the same instant; short ones are silent at their end.

    Blocks are read and filtered by themselves, each after SETTLE_S of what comes before it, so memory grows with the
    powers only.
    """
    length = max(reader.length for reader in readers)
    frames = length * FRAMES_PER_S // sample_rate_hz
    power = np.zeros((frames, len(readers), BANDS), np.float32)
    quick = np.zeros((frames * QUARTERS, len(readers), len(ARRIVAL_HZ)), np.float32)
    sections = _sections(sample_rate_hz)
    step = int(BLOCK_S * FRAMES_PER_S)
    parts = [(first, group) for first in range(0, frames, step) for group in range(0, len(readers), WIDE)]

    def fill(part: tuple[int, int]) -> int:
        first, group = part
        last = min(first + step, frames)
        ends = _edges(first, last, sample_rate_hz)
        lead = max(int(ends[0]) - int(SETTLE_S * sample_rate_hz), 0)
        lanes = readers[group : group + WIDE]
        bank = bank_of([reader.read(lead, int(ends[-1])) for reader in lanes])
        width = bank.shape[1]
        some = np.zeros((last - first, width, BANDS), np.float32)
        fine = np.zeros(((last - first) * QUARTERS, width, len(ARRIVAL_HZ)), np.float32)
        params = np.repeat(sections, width)
        _filters.BANKS[bank.shape[1]].band_powers(bank.reshape(-1), len(lanes), ends - lead, params, some, fine)
        power[first:last, group : group + WIDE] = some[:, : len(lanes)]
        quick[first * QUARTERS : last * QUARTERS, group : group + WIDE] = fine[:, : len(lanes)]
        return last

    with ThreadPoolExecutor(WORKERS) as pool:
        for last in pool.map(fill, parts):
            on_progress(last / frames)
    return Bands(power, quick)


def _edges(first: int, last: int, rate: int) -> np.ndarray:
    """Return the samples at which the quarters of frames first..last begin, and the end of the last."""
    quarters = np.arange(first * QUARTERS, last * QUARTERS + 1)
    return np.round(quarters * (rate / (FRAMES_PER_S * QUARTERS))).astype(np.int64)


def _sections(rate: int) -> np.ndarray:
    """Return the values of state-variable sections: a high and a low pass per band, then one high pass per wide band; those that the judge was taught on."""
    sections = []
    for band in range(BANDS):
        sections += [
            *high_pass(EDGES_HZ[band], 2, rate, matched=False),
            *low_pass(min(EDGES_HZ[band + 1], 0.45 * rate), 2, rate),
        ]
    for low_hz in ARRIVAL_HZ:
        sections += high_pass(low_hz, 2, rate, matched=False)
    return np.array([section.state_variable() for section in sections], np.float32).reshape(-1)
