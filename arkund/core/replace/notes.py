"""Notes and their frequencies, equal temperament with A4 at 440 Hz."""

import math
import re

from arkund.core.errors import SettingsError

NOTES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")
FLATS = {"Db": "C#", "Eb": "D#", "Gb": "F#", "Ab": "G#", "Bb": "A#"}
A4_HZ, A4 = 440.0, 57  # semitones from C0
FIFTH = 7
NAME = re.compile(r"([A-Ga-g])([#b]?)(-?\d)?")


def hz_of(note: str) -> float:
    """Return the frequency of a note such as ``E1`` or ``Bb0``. Raises SettingsError for what is none."""
    found = NAME.fullmatch(note.strip())
    if not found or found[3] is None:
        raise SettingsError(f"note: expected one such as E1 or Bb0, got {note[:20]!r}.")
    name = found[1].upper() + found[2]
    name = FLATS.get(name, name)
    if name not in NOTES:
        raise SettingsError(f"note: there is no {name}.")
    return A4_HZ * 2.0 ** ((NOTES.index(name) + 12 * int(found[3]) - A4) / 12.0)


def name_of(frequency_hz: float) -> tuple[str, float]:
    """Return the nearest note of a frequency, and by how many cents it lies above that."""
    semitones = 12.0 * math.log2(frequency_hz / A4_HZ) + A4
    nearest = round(semitones)
    return f"{NOTES[nearest % 12]}{nearest // 12}", 100.0 * (semitones - nearest)


def in_key(frequency_hz: float, key: str) -> float:
    """Return the frequency of the key's first or fifth note, in any octave, that lies nearest to one; without a key the very same."""
    if not key:
        return frequency_hz
    own = 12.0 * math.log2(frequency_hz / A4_HZ) + A4
    first = NOTES.index(key)
    some = [first + 12 * octave + step for octave in range(10) for step in (0, FIFTH)]
    return A4_HZ * 2.0 ** ((min(some, key=lambda each: abs(each - own)) - A4) / 12.0)
