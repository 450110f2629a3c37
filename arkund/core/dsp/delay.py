"""Delay by whole and part samples."""

import functools

import numpy as np

from arkund.core.dsp import _filters

KAISER_BETA = 8.0
PHASES = 4096
SPEED_BLOCK = 1 << 13
HALF_TAPS = 24  # of the windowed sinc: flat within 0.1 dB up to 0.45 of the sample rate


@functools.lru_cache(maxsize=256)
def part_sample_filter(part: float) -> np.ndarray:
    """Return the taps that delay by HALF_TAPS - 1 + part samples, 0 <= part < 1 [shape=(2 * HALF_TAPS,)]."""
    if not part:
        return (np.arange(-HALF_TAPS + 1, HALF_TAPS + 1) == 0).astype(np.float32)
    away = np.arange(-HALF_TAPS + 1, HALF_TAPS + 1) - part
    window = np.i0(KAISER_BETA * np.sqrt(np.clip(1.0 - (away / HALF_TAPS) ** 2, 0.0, None)))
    taps = np.sinc(away) * window
    return (taps / taps.sum()).astype(np.float32)


def read_delayed(read, start: int, stop: int, delay_samples: float) -> np.ndarray:
    """Return a span of a recording that is played later by delay_samples (earlier where negative).

    read(start, stop) must give float32 [shape=(samples,)], silent outside the recording.
    """
    whole = int(np.floor(delay_samples))
    part = delay_samples - whole
    if part < 1e-6:
        return read(start - whole, stop - whole)
    taps = part_sample_filter(part)
    wide = read(start - whole - HALF_TAPS, stop - whole + HALF_TAPS - 1)
    # Direct, not by FFT: each sample is then the same whatever span it was read in.
    out = np.empty(stop - start, np.float32)
    _filters.fir(wide, taps, out)
    return out


def read_at_speed(read, speed: float, start: int, stop: int) -> np.ndarray:
    """Return a span of a signal read at another speed (1.00001 = 10 ppm faster), float32 [shape=(stop - start,)].

    Sample n is read at n * speed, through the windowed sinc of its part of a sample to the nearest of PHASES: an error below -80 dB at a
    quarter of the rate.
    """
    table, out = _phases(), np.empty(stop - start, np.float32)
    for first in range(start, stop, SPEED_BLOCK):
        at = np.arange(first, min(first + SPEED_BLOCK, stop)) * np.float64(speed)
        steps = np.round(at * PHASES).astype(np.int64)
        whole, phase = steps // PHASES, steps % PHASES
        low = int(whole[0]) - HALF_TAPS
        wide = read(low, int(whole[-1]) + HALF_TAPS + 1)
        around = np.lib.stride_tricks.sliding_window_view(wide, 2 * HALF_TAPS)[whole - low - HALF_TAPS + 1]
        out[first - start : first - start + at.size] = np.einsum("nk,nk->n", around, table[phase])
    return out


@functools.cache
def _phases() -> np.ndarray:
    """Return the taps that read a part of a sample later, for each phase [shape=(PHASES, 2 * HALF_TAPS)]."""
    return np.stack([part_sample_filter(k / PHASES) for k in range(PHASES)])
