"""Note values as times: 1/8 at a tempo, dotted ones (1/8.) and triplets (1/8t)."""

import re

from arkund.core.errors import SettingsError
from arkund.core.timing.bars import is_compound

VALUES = ("1/1", "1/2", "1/4", "1/8", "1/16", "1/32")
FORM = re.compile(r"1/(1|2|4|8|16|32|64)([.t]?)")
LONGER = {"": 1.0, ".": 1.5, "t": 2.0 / 3.0}


def is_note(value: object) -> bool:
    """Say whether a value is a note value such as ``1/8.``."""
    return isinstance(value, str) and FORM.fullmatch(value) is not None


def whole_s(bpm: float, beats_per_bar: int = 4, beat_unit: int = 4) -> float:
    """Return the length of a whole note in seconds; BPM counts notes of ``beat_unit``, in 6/8 and its kin dotted quarters."""
    counted = 3.0 / 8.0 if is_compound(beats_per_bar, beat_unit) else 1.0 / beat_unit
    return 60.0 / bpm / counted


def note_ms(value: str, bpm: float, beats_per_bar: int = 4, beat_unit: int = 4) -> float:
    """Return the length in ms of a note value such as ``1/8``, ``1/8.`` or ``1/8t``. Raises SettingsError for what is none."""
    found = FORM.fullmatch(value.strip())
    if found is None:
        raise SettingsError(f"note: expected a value such as 1/8, 1/8. (dotted) or 1/8t (triplet), got {value[:20]!r}.")
    return 1000.0 * whole_s(bpm, beats_per_bar, beat_unit) / int(found[1]) * LONGER[found[2]]
