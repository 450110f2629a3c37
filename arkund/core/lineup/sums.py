"""What the mics of a drum gain or lose together, by band: against sounds that have nothing to do with each other."""

from collections.abc import Sequence

import numpy as np

from arkund.core.units import db_to_gain, power_to_db

BANDS_HZ = ((30, 60), (60, 120), (120, 250), (250, 500), (500, 2000), (2000, 8000))


def band_gain_db(mics: Sequence[np.ndarray], sample_rate_hz: int) -> list[float]:
    """Return by band how much louder the sum of some mics is than the sum of their powers: 0 = unrelated, 10 log10 of their number = in step.

    mics : each float [shape=(hits, samples)].
    """
    size = 1 << int(np.ceil(np.log2(mics[0].shape[1] * 2)))
    frequencies = np.fft.rfftfreq(size, 1 / sample_rate_hz)
    spectra = [np.fft.rfft(mic, size) for mic in mics]
    together, apart = np.abs(sum(spectra)) ** 2, sum(np.abs(each) ** 2 for each in spectra)
    out = []
    for low, high in BANDS_HZ:
        band = (frequencies >= low) & (frequencies < high)
        out.append(float(power_to_db(together[:, band].sum()) - power_to_db(apart[:, band].sum())))
    return out


def pair_gain_db(a: np.ndarray, b: np.ndarray, sample_rate_hz: int) -> list[float]:
    """Return :func:`band_gain_db` of two mics brought to the same power, so that it speaks of phase and not of level."""
    return band_gain_db([each / (np.sqrt(np.mean(each**2)) + 1e-12) for each in (a, b)], sample_rate_hz)


def sum_gain_db(mics: Sequence[np.ndarray], levels_db: Sequence[float], sample_rate_hz: int) -> list[float]:
    """Return :func:`band_gain_db` of some mics at their levels: what is heard of them together."""
    return band_gain_db([db_to_gain(level) * mic for level, mic in zip(levels_db, mics, strict=True)], sample_rate_hz)


def most_gain_db(count: int) -> float:
    """Return what so many mics of one level gain when they are fully in step."""
    return float(power_to_db(count))
