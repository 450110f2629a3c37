"""Cleaning by frequency: a drum's own ring while others are struck, and one drum inside another's mic. Both are filters that move with strikes."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key
from arkund.core.units import db_to_power, power_to_db

RING, BLEED = "ring", "bleed"  # the ids of their tools
RING_DB, RING_Q, MOST_RINGS = 12.0, 8.0, 3
RING_FROM_HZ, RING_UP_TO_HZ = 50.0, 1500.0
RING_STANDS_OUT_DB = 8.0  # above what lies half an octave to either side
AROUND_OCTAVES, SAME_OCTAVES, APART_OCTAVES = 0.5, 0.08, 0.33
RING_EARLY_MS, RING_LENGTH_MS, RING_RELEASE_MS = 3.0, 200.0, 400.0
BLEED_DB, BLEED_Q, MOST_BLEED_BANDS = 8.0, 1.6, 3  # an octave apart, bands of this width hardly add up
BLEED_FROM_HZ, BLEED_UP_TO_HZ = 100.0, 14_000.0
TILT_DB = 3.0  # per octave, as music falls
HEARD_DB = 15.0  # what lies further below its loudest is not what one hears of it
SILENT_DB = -100.0
BLEED_LENGTH_MS, BLEED_RELEASE_MS = 40.0, 90.0
FULLY_DB = -90.0  # a threshold that every strike passes by more than any range


@dataclass(frozen=True, slots=True)
class Spectra:
    """A mic's levels in dB on an axis in Hz: during its own hits, and during others'."""

    axis_hz: tuple[float, ...]
    own_db: tuple[float, ...]
    others_db: tuple[float, ...]


def ring(piece: str, heard: Spectra) -> Tone:
    """Return what turns a drum's ring down except while it is struck: narrow cuts where it answers others, which its own strikes lift again.

    It answers with its own tones: those that stand out of its hits and of others' alike; what others bring with them is bleed. A cut and its lift are each
    other's inverse: at an own hit the mic is as it was. Raises SettingsError where nothing stands out.
    """
    hz, level = np.array(heard.axis_hz), np.array(heard.others_db)
    own, theirs = (_tones(hz, np.array(each)) for each in (heard.own_db, heard.others_db))
    peaks = [k for k in theirs if any(abs(np.log2(hz[k] / hz[j])) < SAME_OCTAVES for j in own)]
    loudest: list[int] = []
    for k in sorted(peaks, key=lambda k: -level[k]):
        if len(loudest) < MOST_RINGS and all(abs(np.log2(hz[k] / hz[j])) > APART_OCTAVES for j in loudest):
            loudest.append(k)
    if not loudest:
        raise SettingsError(f"ring: no tone of the {piece} stands out by {RING_STANDS_OUT_DB:g} dB while others play.")
    bands = tuple(
        Band(
            frequency_hz=round(float(hz[k]), 1),
            gain_db=-RING_DB,
            q=RING_Q,
            range_db=RING_DB,
            threshold_db=FULLY_DB,
            attack_ms=1.0,
            release_ms=RING_RELEASE_MS,
        )
        for k in sorted(loudest)
    )
    return Tone(id=RING, bands=bands, key=Key(of=f"hits:{piece}", early_ms=RING_EARLY_MS, length_ms=RING_LENGTH_MS))


def bleed(piece: str, other: str, heard: Spectra) -> Tone:
    """Return what turns a drum down inside another's mic: at its strikes, but for those that fall on the mic's own, in the bands in which one hears most of it.

    piece : the mic's own, "" where it has none; heard : others_db during the strikes of that drum. Phase is kept but for what the filters turn. Raises
    SettingsError where nothing of it is heard.
    """
    hz = np.array(heard.axis_hz)
    tilted = np.array(heard.others_db) + TILT_DB * np.log2(hz / 1000.0)
    middles = BLEED_FROM_HZ * 2.0 ** np.arange(0.0, np.log2(BLEED_UP_TO_HZ / BLEED_FROM_HZ), 1.0)
    inside = [(hz >= middle / 2**0.5) & (hz < middle * 2**0.5) for middle in middles]
    found = [(float(np.mean(tilted[each])), middle) for each, middle in zip(inside, middles, strict=True) if each.any()]
    top = max((level for level, _ in found), default=SILENT_DB)
    if top <= SILENT_DB:
        raise SettingsError(f"bleed: nothing of the {other} is heard in this mic.")
    found = [row for row in found if row[0] > top - HEARD_DB]
    of = f"hits:{other}-{piece}" if piece else f"hits:{other}"
    chosen = sorted(middle for _, middle in sorted(found, reverse=True)[:MOST_BLEED_BANDS])
    bands = tuple(
        Band(
            frequency_hz=round(float(middle), 1),
            q=BLEED_Q,
            range_db=-BLEED_DB,
            threshold_db=FULLY_DB,
            attack_ms=1.0,
            release_ms=BLEED_RELEASE_MS,
        )
        for middle in chosen
    )
    return Tone(id=BLEED, bands=bands, key=Key(of=of, length_ms=BLEED_LENGTH_MS))


def _tones(hz: np.ndarray, level_db: np.ndarray) -> list[int]:
    """Return where single tones stand out of a spectrum."""
    above = level_db - np.array([_around(hz, level_db, f) for f in hz])
    inside = (hz >= RING_FROM_HZ) & (hz <= RING_UP_TO_HZ) & (above >= RING_STANDS_OUT_DB)
    return [k for k in np.flatnonzero(inside) if 0 < k < hz.size - 1 and level_db[k] >= max(level_db[k - 1 : k + 2])]


def _around(hz: np.ndarray, level_db: np.ndarray, middle_hz: float) -> float:
    """Return the level of what lies around a frequency, without itself."""
    away = np.abs(np.log2(hz / middle_hz))
    inside = (away <= AROUND_OCTAVES) & (away >= AROUND_OCTAVES / 4.0)
    return float(power_to_db(np.median(db_to_power(level_db[inside])))) if inside.any() else 0.0


def loudest_other(others_db: dict[str, Sequence[float]]) -> str:
    """Return whose hits are the loudest in a mic. Raises SettingsError where no other's are known."""
    if not others_db:
        raise SettingsError("bleed: no other drum's hits are heard alone in this mic.")
    return max(others_db, key=lambda piece: float(np.median(others_db[piece])))
