"""Who is sent to a path by its recipe."""

import pytest

from arkund.core.blend.recipes import Raised, made_up, sends_of
from arkund.core.plan.plan import MicPlan
from arkund.core.rig import usual

MICS = [
    MicPlan(id=name, name=name, piece=piece, role=role)
    for name, piece, role in (
        ("in", "kick", "in"), ("out", "kick", "out"), ("sub", "kick", "sub"), ("top", "snare", "top"), ("bottom", "snare", "bottom"), ("tom", "tom1", "close"),
        ("floor", "floor", "close"), ("hat", "hihat", "spot"), ("oh", "kit", "overhead"), ("room", "kit", "room"), ("talk", "kit", "talkback"),
    )
]  # fmt: skip


@pytest.mark.parametrize(
    ("recipe", "feed", "wanted"),
    [
        ("punch", "shells", {"in": 0.0, "top": 0.0, "bottom": 0.0, "tom": -4.0, "floor": -4.0}),
        ("sustain", "whole", dict.fromkeys([mic.id for mic in MICS if mic.id != "talk"], 0.0)),
        ("weight", "shells", dict.fromkeys(["in", "out", "sub"], 0.0)),
        ("crush", "shells", {"room": 0.0}),
        ("plate", "whole", {"top": 0.0}),
    ],
)
def test_sends(recipe, feed, wanted):
    """Shells: kick in and snare in full, toms a bit less, no sub, overheads, rooms; the others as each is meant."""
    assert sends_of(recipe, MICS, feed) == wanted


def test_a_trashy_room():
    """Of the floor or talkback mic only where there is no room; never of the floor tom."""
    without = [mic for mic in MICS if mic.role != "room"]
    assert sends_of("crush", without) == {"talk": 0.0}


def test_words():
    """What a level does, with the share of what hits stand out by that is left."""
    assert (
        Raised(-12.0, 1.0, -0.8, -1.5, 0.9).words
        == "attack +1.0 dB, 0.8 dB denser, hits stand out by -1.5 dB: 90 % of it left"
    )


@pytest.mark.parametrize(
    ("came_db", "left_db", "by_db"), [(-8.0, -20.5, 12.5), (-8.0, -4.0, -4.0), (-8.0, -150.0, 0.0)]
)
def test_made_up(came_db, left_db, by_db):
    """By what its peak lost, or won; not where nothing is heard."""
    path = made_up(usual.sustain(), came_db, left_db)
    assert path.first("compressor").makeup_db == by_db
    assert path.replace(tools=()) == usual.sustain().replace(tools=())
