"""Delay by whole and part samples, and the arrival of one sound in two recordings."""

import numpy as np
from scipy import signal

from arkund.core.dsp import _kernels

KAISER_BETA = 8.0
HALF_TAPS = 24  # of the windowed sinc: flat within 0.1 dB up to 0.45 of the sample rate


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
    _kernels.fir(wide, taps, out)
    return out


def arrival_difference(reference: np.ndarray, other: np.ndarray, most: int) -> tuple[float, float]:
    """Return how many samples later a sound is in ``other``, and the normalised correlation there (signed).

    Both float [shape=(samples,)]; the delay lies within +-most samples and is refined by a parabola through the three
    values around the strongest correlation of either sign.
    """
    n = reference.size
    correlation = signal.correlate(other, reference, mode="full", method="fft")
    middle = n - 1
    part = correlation[middle - most : middle + most + 1]
    norm = np.sqrt(np.sum(reference.astype(float) ** 2) * np.sum(other.astype(float) ** 2)) + 1e-20
    best = int(np.argmax(np.abs(part)))
    value = part[best] / norm
    shift = 0.0
    if 0 < best < part.size - 1:
        a, b, c = np.abs(part[best - 1 : best + 2])
        shift = 0.5 * (a - c) / (a - 2 * b + c) if a - 2 * b + c else 0.0
    return best - most + float(shift), float(value)
