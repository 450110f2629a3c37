"""Whose hits make an average: those that no other drum follows."""

from arkund.core.hits.resolve import Hit
from arkund.core.punch.measure import heard_clear


def hits(piece: str, *times: float) -> list[Hit]:
    return [Hit(piece, t, -6.0, 100, False) for t in times]


def test_followed_ones_are_left_out():
    """A snare with a kick a sixteenth later, or just before it, does not count; hats do no harm."""
    snare, kick = hits("snare", *range(1, 9)), hits("kick", 1.14, 2.97, 5.3)
    mine = heard_clear(snare, {"snare": snare, "kick": kick, "hihat": hits("hihat", 4.1, 6.1)}, "snare")
    assert [h.time_s for h in mine] == [2, 4, 5, 6, 7, 8]


def test_struck_twice():
    """Nor does one that the drum itself, if only as a ghost, follows soon."""
    snare = [*hits("snare", *range(1, 8)), Hit("snare", 2.14, -30.0, 20, True)]
    mine = heard_clear(snare[:7], {"snare": snare}, "snare")
    assert [h.time_s for h in mine] == [1, 3, 4, 5, 6, 7]


def test_all_where_those_are_too_few():
    """An average of three would be none."""
    snare = hits("snare", 1, 2, 3, 4)
    assert heard_clear(snare, {"snare": snare, "kick": hits("kick", 1.1, 2.1)}, "snare") == snare
