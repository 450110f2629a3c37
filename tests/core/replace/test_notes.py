"""Notes and frequencies."""

import pytest

from arkund.core.errors import SettingsError
from arkund.core.replace.notes import hz_of, in_key, name_of


@pytest.mark.parametrize(
    ("note", "hz"), [("A4", 440.0), ("E1", 41.203), ("Bb0", 29.135), ("c2", 65.406), ("G#1", 51.913)]
)
def test_there_and_back(note, hz):
    """By the table of equal temperament."""
    assert hz_of(note) == pytest.approx(hz, abs=0.001)
    assert name_of(hz)[1] == pytest.approx(0.0, abs=0.1)


def test_cents():
    """How far off a note is."""
    assert name_of(440.0 * 2 ** (20 / 1200)) == ("A4", pytest.approx(20.0))


@pytest.mark.parametrize(
    ("hz", "key", "wanted"), [(35.0, "C", 32.70), (35.0, "A", 41.20), (50.0, "C", 48.999), (50.0, "", 50.0)]
)
def test_in_key(hz, key, wanted):
    """The first or the fifth of the key, whichever is nearer; without a key it stays."""
    assert in_key(hz, key) == pytest.approx(wanted, abs=0.01)


@pytest.mark.parametrize("note", ["", "H1", "E", "Cb1", "55"])
def test_no_note(note):
    """Said."""
    with pytest.raises(SettingsError, match="note: "):
        hz_of(note)
