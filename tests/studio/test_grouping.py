"""The compressors that hold groups together: as much as is wanted, and offered only where it is."""

import pytest

from arkund.core.blend.groups import FIRST_ROWS
from arkund.studio.services import grouping, moves
from arkund.studio.services.findings import find
from arkund.studio.services.measuring import Measure
from tests.studio.doing import accept

pytestmark = pytest.mark.django_db


def test_held_as_wanted(proposed):
    """Each note reaches what it was solved for, and is gone once it was done; nothing is offered for groups that nobody plays or hears."""
    found = {note.place: note for note in grouping.starts(Measure(proposed))}
    assert {"kick", "snare"} <= set(found) <= set(FIRST_ROWS)
    assert "rooms" not in found  # the little kit has none
    accept(proposed.pk, next(note for note in find("blend", Measure(proposed)) if note.key == "blend:group:snare"))
    proposed.refresh_from_db()
    held = next(group for group in proposed.plan.groups if group.id == "snare").first("compressor")
    assert held.on
    assert held.ratio == 2.0
    assert "snare" not in {note.place for note in grouping.starts(Measure(proposed))}
    moves.undo(proposed.pk)
    proposed.refresh_from_db()
    assert "snare" in {note.place for note in grouping.starts(Measure(proposed))}
