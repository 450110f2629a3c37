"""The kit against the rest of the music: how loud each is, and which of them is in front, octave by octave."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.loudness import ABSOLUTE_GATE_LUFS, measure
from arkund.core.dsp.spectrum import OCTAVES_HZ, bands_db, octaves
from arkund.core.plan.plan import Backing
from arkund.core.tone.lifted import TIRING_HZ
from arkund.core.units import db_to_gain

PART_S = 8.0  # of a section, from its middle
BEHIND_MS = (0, 3, 5, 8, 10)  # by which music may follow the cymbals, before it is heard as late


@dataclass(frozen=True, slots=True)
class Against:
    """The kit against the music over one part of the song: loudness of each in LUFS; kit minus music in dB by OCTAVES_HZ, and where voices and guitars want
    their place and ears tire first.
    """

    kit_lufs: float
    music_lufs: float
    octaves_db: tuple[float, ...]
    presence_db: float


def against(kit: np.ndarray, music: np.ndarray, level_db: float, sample_rate_hz: int) -> Against | None:
    """Return how a kit stands against the music; None where either is silent.

    kit, music : float32 [each shape=(samples, 2)]; level_db : at which the music is heard
    """
    music = music * np.float32(db_to_gain(level_db))
    kit_lufs, music_lufs = (measure(np.ascontiguousarray(x), sample_rate_hz).loudness_lufs for x in (kit, music))
    if min(kit_lufs, music_lufs) <= ABSOLUTE_GATE_LUFS:
        return None
    edges = [*octaves(OCTAVES_HZ), TIRING_HZ]
    apart = np.subtract(*(bands_db(x, edges, sample_rate_hz) for x in (kit, music))).round(1).tolist()
    return Against(round(kit_lufs, 1), round(music_lufs, 1), tuple(apart[:-1]), apart[-1])


def as_loud_db(found: Sequence[Against], level_db: float) -> float:
    """Return the level at which the music is as loud as the kit over most of the parts, to its step; as it is where there are none."""
    limits = Backing.ranges()["level_db"]
    apart = float(np.median([each.kit_lufs - each.music_lufs for each in found])) if found else 0.0
    return float(np.clip(limits.step * round((level_db + apart) / limits.step), limits.low, limits.high))


def middle_of(begin_s: float, end_s: float, sample_rate_hz: int) -> tuple[int, int]:
    """Return the middle of a section, PART_S of it at most, in samples."""
    middle, half = 0.5 * (begin_s + end_s), 0.5 * min(end_s - begin_s, PART_S)
    return int((middle - half) * sample_rate_hz), int((middle + half) * sample_rate_hz)
