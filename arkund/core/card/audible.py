"""How far apart two versions of a mix sound at one loudness: what orders deeds by what is heard of them.

References
    ISO 532-1 (2017), 6.2: specific loudness grows with the power of 0.23 of the excitation. Used here as a weight, without the spread of masking.
"""

import numpy as np
from scipy.fft import rfft

from arkund.core.dsp.filters import magnitude_db
from arkund.core.dsp.loudness import k_weighting, quick_loudness_lufs
from arkund.core.dsp.spectrum import third_octaves_hz
from arkund.core.errors import AudioError
from arkund.core.units import SILENCE_DB, db_to_power, power_to_db

FRAME_S = 0.04
THIRDS_HZ = third_octaves_hz(40.0, 16_000.0)
EXPONENT = 0.23
DEPTH = 1e-6  # of the strongest band of the strongest frame: what lies 60 dB under it is not heard beside it
MOST_DB = 24.0  # of one band's change in one frame


def difference_db(before: np.ndarray, after: np.ndarray, sample_rate_hz: int) -> float:
    """Return how far apart two versions of a mix sound, brought to one loudness: the mean change of third-octave levels in frames of 40 ms, each side by
    itself, weighted by how loud they are.

    before, after : float [shape=(samples, 2)], of the same moments

    Returns
        dB, 0 for the same sound; a shift in time or a turned polarity of the whole makes nearly none

    Raises AudioError where their shapes differ.
    """
    if before.shape != after.shape or before.ndim != 2:
        raise AudioError(f"after: expected samples of the shape {before.shape}, got {after.shape}.")
    loudness = [quick_loudness_lufs(x, sample_rate_hz) for x in (before, after)]
    if min(loudness) <= SILENCE_DB:
        return 0.0 if loudness[0] == loudness[1] else MOST_DB
    a, b = (_bands(x, sample_rate_hz) for x in (before, after))
    b = b * db_to_power(loudness[0] - loudness[1])
    floor = DEPTH * max(float(a.max()), float(b.max()))
    change_db = np.minimum(np.abs(power_to_db((b + floor) / (a + floor))), MOST_DB)
    weight = np.maximum(np.maximum(a, b) - floor, 0.0) ** EXPONENT
    return float((weight * change_db).sum() / weight.sum())


def _bands(x: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the K-weighted power by frame, side and third octave [shape=(frames, channels, bands)]."""
    size = 2 * round(FRAME_S * sample_rate_hz / 2.0)
    count = max(2 * (x.shape[0] // size) - 1, 1)
    padded = np.zeros((max(x.shape[0], size), x.shape[1]), np.float32)
    padded[: x.shape[0]] = x
    frames = np.lib.stride_tricks.sliding_window_view(padded, size, axis=0)[:: size // 2][:count]
    power = np.square(np.abs(rfft(frames * np.hanning(size).astype(np.float32), axis=-1)))
    hz = np.fft.rfftfreq(size, 1.0 / sample_rate_hz)
    power = power[..., 1:] * db_to_power(magnitude_db(k_weighting(sample_rate_hz), hz[1:], sample_rate_hz))
    edges = np.searchsorted(hz[1:], THIRDS_HZ * 2.0 ** (-1.0 / 6.0))
    return np.add.reduceat(power, np.unique(edges), axis=-1)
