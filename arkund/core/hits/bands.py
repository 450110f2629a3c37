"""Energy of each mic in a few frequency bands, once per millisecond: what the hit finder looks at."""

from collections.abc import Sequence
from typing import Protocol

import numpy as np

from arkund.core.dsp.bank import WIDE, empty_bank, filter_bank
from arkund.core.dsp.filters import high_pass, low_pass

FRAMES_PER_S = 1000
EDGES_HZ = (30.0, 110.0, 300.0, 900.0, 2500.0, 6000.0, 15000.0)
BANDS = len(EDGES_HZ) - 1
QUARTERS = 4  # frames per millisecond in which arrivals are compared
ARRIVAL_HZ = 300.0
BLOCK_S = 8.0
SETTLE_S = 0.25


class Reader(Protocol):
    """Audio that can be read at any place: a mic's file, or an array in a test."""

    @property
    def length(self) -> int: ...

    def read(self, start: int, stop: int) -> np.ndarray: ...


def band_energies(
    readers: Sequence[Reader], sample_rate_hz: int, on_progress=lambda share: None
) -> tuple[np.ndarray, np.ndarray]:
    """Return the mean square of each mic in each band and millisecond, and in quarters of it above ARRIVAL_HZ.

    Parameters
    ----------
    readers : mics; all are taken as starting at the same instant, short ones are silent at their end
    sample_rate_hz : of all of them

    Returns
    -------
    float32 [shape=(frames, mics, BANDS)] and float32 [shape=(frames * QUARTERS, mics)], full scale = 1
    """
    length = max(reader.length for reader in readers)
    rate_ratio = sample_rate_hz / (FRAMES_PER_S * QUARTERS)
    frames = length * FRAMES_PER_S // sample_rate_hz
    out = np.zeros((frames, len(readers), BANDS), np.float32)
    quick = np.zeros((frames * QUARTERS, len(readers)), np.float32)
    step = int(BLOCK_S * FRAMES_PER_S)
    for first in range(0, frames, step):
        last = min(first + step, frames)
        edges = np.round(np.arange(first, last + 1) * sample_rate_hz / FRAMES_PER_S).astype(np.int64)
        lead = max(edges[0] - int(SETTLE_S * sample_rate_hz), 0)
        for group in range(0, len(readers), WIDE):
            count = len(readers[group : group + WIDE])
            bank = empty_bank(int(edges[-1]) - lead, count)
            for lane, reader in enumerate(readers[group : group + WIDE]):
                bank[:, lane] = reader.read(lead, edges[-1])
            for band in range(BANDS):
                part = filter_bank(bank, [_band(band, sample_rate_hz)] * count)[edges[0] - lead :, :count]
                sums = np.add.reduceat(part * part, edges[:-1] - edges[0], axis=0)
                out[first:last, group : group + count, band] = sums / np.diff(edges)[:, None]
            fine = np.round(np.arange(first * QUARTERS, last * QUARTERS + 1) * rate_ratio).astype(np.int64)
            part = filter_bank(bank, [high_pass(ARRIVAL_HZ, 2, sample_rate_hz)] * count)[fine[0] - lead :, :count]
            quick[first * QUARTERS : last * QUARTERS, group : group + count] = np.maximum.reduceat(
                part * part, fine[:-1] - fine[0], axis=0
            )
        on_progress(last / frames)
    return out, quick


def _band(band: int, rate: int):
    top = min(EDGES_HZ[band + 1], 0.45 * rate)
    return (*high_pass(EDGES_HZ[band], 2, rate), *low_pass(top, 2, rate))
