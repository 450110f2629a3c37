"""Averaged power spectra on a logarithmic frequency axis."""

import numpy as np

from arkund.core.units import power_to_db

POINTS_PER_OCTAVE = 12
LOW_HZ, HIGH_HZ = 20.0, 20_000.0


def axis_hz(sample_rate_hz: int) -> np.ndarray:
    """Return the centre frequencies of the shown bands, up to 20 kHz or just below half the rate."""
    top = min(HIGH_HZ, 0.48 * sample_rate_hz)
    count = int(np.log2(top / LOW_HZ) * POINTS_PER_OCTAVE) + 1
    return LOW_HZ * 2.0 ** (np.arange(count) / POINTS_PER_OCTAVE)


def tukey(size: int, part: float) -> np.ndarray:
    """Return a window with raised cosines over a part of it, half of that at each end [shape=(size,)] (J. W. Tukey, 1967).

    As ``scipy.signal.windows.tukey``, without the second that it takes to import.
    """
    steps = np.arange(size)
    from_end = np.minimum(steps, steps[::-1]) / (0.5 * part * (size - 1))
    return 0.5 - 0.5 * np.cos(np.pi * np.minimum(from_end, 1.0))


def spectrum_db(pieces: list[np.ndarray], sample_rate_hz: int) -> np.ndarray:
    """Return the mean spectrum of equally long pieces in dB per band, 0 dB = a full-scale sine.

    pieces : float [shape=(samples,)] each; fading at their end is up to the caller.
    """
    centres = axis_hz(sample_rate_hz)
    if not pieces:
        return np.full(centres.size, -140.0)
    size = 1 << int(np.ceil(np.log2(max(pieces[0].size, 4096))))
    total = np.zeros(size // 2 + 1)
    for piece in pieces:
        total += np.abs(np.fft.rfft(piece, size)) ** 2
    total *= 4.0 / (len(pieces) * pieces[0].size ** 2)
    frequencies = np.fft.rfftfreq(size, 1.0 / sample_rate_hz)
    half = 2.0 ** (0.5 / POINTS_PER_OCTAVE)
    edges = np.searchsorted(frequencies, [centres / half, centres * half])
    sums = np.concatenate([[0.0], np.cumsum(total)])
    low, high = edges[0], np.maximum(edges[1], edges[0] + 1)
    return power_to_db((sums[high] - sums[low]) / (high - low))
