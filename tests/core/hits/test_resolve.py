"""Corrections by hand, strengths and ghosts."""

import pytest

from arkund.core.hits.resolve import resolve
from arkund.core.plan.plan import HitChange

FOUND = {"snare": [(1.0, -6.0, 0.9), (2.0, -6.5, 0.9), (2.5, -28.0, 0.6), (3.0, -5.5, 1.0)], "kick": [(1.5, -8.0, 1.0)]}


class TestResolve:
    """Added, moved and removed hits; velocity from level; ghosts marked."""

    def test_velocity_and_ghosts(self):
        """Full hits near 127, a hit 22 dB softer is a ghost and weaker."""
        snare = resolve(FOUND, ())["snare"]
        assert [h.ghost for h in snare] == [False, False, True, False]
        assert snare[0].velocity > 120
        assert snare[2].velocity < 70

    def test_only_snares_have_ghosts(self):
        """A soft kick is a soft kick."""
        rows = {"kick": [(1.0, -6.0, 1.0), (2.0, -6.0, 1.0), (3.0, -30.0, 1.0)]}
        assert not any(h.ghost for h in resolve(rows, ())["kick"])

    def test_add_move_remove(self):
        """In the order in which they were made."""
        changes = (
            HitChange(kind="add", piece="snare", time_s=4.0),
            HitChange(kind="move", piece="snare", time_s=4.0, to_s=4.1),
            HitChange(kind="remove", piece="snare", time_s=1.001),
        )
        snare = resolve(FOUND, changes)["snare"]
        assert [h.time_s for h in snare] == [2.0, 2.5, 3.0, 4.1]
        assert snare[-1].by_hand
        assert [h.sure for h in snare] == [0.9, 0.6, 1.0, 1.0]

    @pytest.mark.parametrize("kind", ["move", "remove"])
    def test_nothing_near(self, kind):
        """A correction that names no hit changes nothing."""
        changes = (HitChange(kind=kind, piece="kick", time_s=9.0, to_s=9.5),)
        assert [h.time_s for h in resolve(FOUND, changes)["kick"]] == [1.5]

    def test_a_new_piece(self):
        """A hit can be added to a piece where none was found."""
        changes = (HitChange(kind="add", piece="floor", time_s=0.5, level_db=-3.0),)
        assert resolve({}, changes)["floor"][0].level_db == -3.0

    def test_what_was_put_there(self):
        """A hit in the place of another has its strength; one where a hit was missing is a hit like the others, and said to be no recorded one."""
        found = resolve(FOUND, (), [("snare", 2.504, -6.2), ("kick", 3.5, -9.0)])
        assert [(h.time_s, h.level_db, h.ghost, h.placed) for h in found["snare"][2:]] == [
            (2.5, -6.2, False, True),
            (3.0, -5.5, False, False),
        ]
        assert [(h.time_s, h.placed, h.by_hand) for h in found["kick"]] == [(1.5, False, False), (3.5, True, True)]
