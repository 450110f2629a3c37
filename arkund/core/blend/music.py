"""The kit against the rest of the music: how loud each is, and which of them is in front, octave by octave."""

from dataclasses import dataclass

import numpy as np
import scipy.fft

from arkund.core.dsp.loudness import measure
from arkund.core.units import power_to_db

OCTAVES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
PRESENCE_HZ = (1000.0, 5000.0)  # where voices and guitars want their place, and drums their crack
QUIETEST_LUFS = -70.0  # of BS.1770: below, nothing is heard


@dataclass(frozen=True, slots=True)
class Against:
    """The kit against the music over one part of the song: loudness of each in LUFS; kit minus music in dB by OCTAVES_HZ, and over PRESENCE_HZ."""

    kit_lufs: float
    music_lufs: float
    octaves_db: tuple[float, ...]
    presence_db: float


def against(kit: np.ndarray, music: np.ndarray, sample_rate_hz: int) -> Against | None:
    """Return how a kit stands against the music; None where either is silent.

    kit, music : float32 [each shape=(samples, 2)], as loud as they are heard together
    """
    kit_lufs, music_lufs = (measure(np.ascontiguousarray(x), sample_rate_hz).loudness_lufs for x in (kit, music))
    if min(kit_lufs, music_lufs) <= QUIETEST_LUFS:
        return None
    powers = [np.sum(np.abs(scipy.fft.rfft(x, axis=0)) ** 2, axis=1) for x in (kit, music)]
    hz = scipy.fft.rfftfreq(kit.shape[0], 1.0 / sample_rate_hz)

    def apart_db(low_hz: float, high_hz: float) -> float:
        inside = (hz >= low_hz) & (hz < high_hz)
        mine, others = (float(power_to_db(float(power[inside].sum()) + 1e-12)) for power in powers)
        return round(mine - others, 1)

    octaves = tuple(apart_db(middle / 2**0.5, middle * 2**0.5) for middle in OCTAVES_HZ)
    return Against(round(kit_lufs, 1), round(music_lufs, 1), octaves, apart_db(*PRESENCE_HZ))
