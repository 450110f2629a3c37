"""Averaged power spectra on a logarithmic frequency axis."""

import functools
import math
from collections.abc import Sequence

import numpy as np
import scipy.fft

from arkund.core.units import power_to_db

POINTS_PER_OCTAVE = 12
LOW_HZ, HIGH_HZ = 20.0, 20_000.0
LEAST_POWER = 1e-18  # under which nothing is heard
OCTAVES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)


def axis_hz(sample_rate_hz: int) -> np.ndarray:
    """Return the centre frequencies of the shown bands, up to 20 kHz or just below half the rate."""
    top = min(HIGH_HZ, 0.48 * sample_rate_hz)
    count = int(np.log2(top / LOW_HZ) * POINTS_PER_OCTAVE) + 1
    return LOW_HZ * 2.0 ** (np.arange(count) / POINTS_PER_OCTAVE)


@functools.lru_cache(maxsize=32)
def tukey(size: int, part: float) -> np.ndarray:
    """Return a window with raised cosines over a part of it, half of that at each end [shape=(size,)], not to be written to (J. W. Tukey, 1967).

    As ``scipy.signal.windows.tukey``, without the second that it takes to import.
    """
    steps = np.arange(size)
    from_end = np.minimum(steps, steps[::-1]) / (0.5 * part * (size - 1))
    window = 0.5 - 0.5 * np.cos(np.pi * np.minimum(from_end, 1.0))
    window.setflags(write=False)
    return window


def window_starts(
    times_s: Sequence[float], early_s: float, size: int, length: int, sample_rate_hz: int, most: int
) -> list[int]:
    """Return where windows of ``size`` samples begin, so long before moments in s; those that lie within ``length`` samples, at most so many, spread evenly."""
    begins = [int((t - early_s) * sample_rate_hz) for t in times_s]
    begins = [begin for begin in begins if 0 <= begin <= length - size]
    if not begins:
        return []
    return [begins[k] for k in np.linspace(0, len(begins) - 1, min(len(begins), most)).astype(int)]


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


def bands_db(audio: np.ndarray, edges_hz: Sequence[tuple[float, float]], sample_rate_hz: int) -> np.ndarray:
    """Return the mean power density of audio [shape=(samples, channels)], all channels together, in bands from and up to so many Hz, in dB."""
    return bands_of_db(power_density(audio), edges_hz, audio.shape[0], sample_rate_hz)


def power_density(audio: np.ndarray) -> np.ndarray:
    """Return the power of audio [shape=(samples, channels)] by frequency, all channels together [shape=(samples // 2 + 1,)]."""
    if audio.shape[1] == 2 and audio.dtype == np.float32 and audio.flags.c_contiguous:
        both = scipy.fft.fft(
            audio.view(np.complex64)[:, 0]
        )  # of left + i right: |Z(f)|^2 + |Z(-f)|^2 = 2 (|L(f)|^2 + |R(f)|^2)
        power = np.square(both.real) + np.square(both.imag)
        half = audio.shape[0] // 2 + 1
        return (power[:half] + np.concatenate([power[:1], power[:-half:-1]])) / 2.0
    found = scipy.fft.rfft(np.ascontiguousarray(audio.T))
    return np.sum(np.square(found.real) + np.square(found.imag), axis=0)


def bands_of_db(
    density: np.ndarray, edges_hz: Sequence[tuple[float, float]], samples: int, sample_rate_hz: int
) -> np.ndarray:
    """Return the same of what :func:`power_density` gave of so many samples."""
    places = [[int(np.ceil(hz * samples / sample_rate_hz)) for hz in edges] for edges in edges_hz]
    return power_to_db(np.array([np.mean(density[low:high]) for low, high in places]) + LEAST_POWER)


def third_octaves_hz(lowest_hz: float, highest_hz: float) -> np.ndarray:
    """Return the middles of third octaves (IEC 61260-1, base two: 1 kHz times powers of the cube root of 2) from the one nearest to a frequency to another."""
    first, last = (round(3.0 * math.log2(hz / 1000.0)) for hz in (lowest_hz, highest_hz))
    return 1000.0 * 2.0 ** (np.arange(first, last + 1) / 3.0)


def octaves(middles_hz: Sequence[float]) -> list[tuple[float, float]]:
    """Return the edges of octaves about their middles, in Hz."""
    return [(middle / 2**0.5, middle * 2**0.5) for middle in middles_hz]


def stretches_db(x: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the mean spectrum of a signal [shape=(samples,)] as :func:`spectrum_db` gives it, by stretches of a quarter of a second."""
    size = sample_rate_hz // 4
    return spectrum_db([x[at : at + size] for at in range(0, x.size - size, size)], sample_rate_hz)
