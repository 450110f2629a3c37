"""Who owns the low end: asked where several strips have one, and what fights with it gives way."""

import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.replace.low_end import BANDS_HZ, LowEnd
from arkund.core.tone.owner import competing, owner_of, undecided

NAMES = {"in": "KD in", "out": "KD out", "sub": "Sub"}
PLAN = Plan(take="t", mics=tuple(MicPlan(id=k, name=v, piece="kick", role=k) for k, v in NAMES.items()))


def carried(sum_db: float, **levels: float) -> LowEnd:
    rows = {key: tuple(level - 8.0 for _ in BANDS_HZ) for key, level in levels.items()}
    return LowEnd(BANDS_HZ, rows, tuple(sum_db for _ in BANDS_HZ), levels, sum_db)


class TestUndecided:
    """One decision of the session."""

    def test_asked_once(self):
        """With the levels of all that have one; not where one alone has, nor where it is decided."""
        found = carried(-10.0, out=-12.0, sub=-18.0)
        note = undecided(PLAN, found, NAMES)
        assert note.title == "KD out owns the low end"
        assert "Sub -18.0 dB" in note.evidence
        decided = change.put(PLAN, note.changes)
        assert owner_of(decided, found) == "out"
        assert undecided(decided, found, NAMES) is None
        assert undecided(PLAN, carried(-12.0, out=-12.0), NAMES) is None

    def test_unknown(self):
        """Nobody that is not there."""
        with pytest.raises(SettingsError, match="no mic or layer 'gone'"):
            PLAN.replace(low_owner="gone")


class TestCompeting:
    """What fights with the owner."""

    def test_gives_way(self):
        """Nearly as loud, and the sum hardly more than the owner: a high-pass above its fundamental, once."""
        plan, found = PLAN.replace(low_owner="out"), carried(-11.6, out=-12.0, sub=-14.0)
        (note,) = competing(plan, found, NAMES, 60.0)
        assert note.place == "sub"
        after = change.put(plan, note.changes)
        (band,) = after.mic("sub").first("tone").bands
        assert (band.kind, band.frequency_hz) == ("high_pass", 96.0)
        assert competing(after, found, NAMES, 60.0) == []

    def test_none_where_they_help(self):
        """Where the sum is clearly more than the owner, and where the other is far below, nobody fights."""
        plan = PLAN.replace(low_owner="out")
        assert competing(plan, carried(-9.5, out=-12.0, sub=-14.0), NAMES, 60.0) == []
        assert competing(plan, carried(-12.0, out=-12.0, sub=-30.0), NAMES, 60.0) == []

    def test_the_rest_of_the_music(self):
        """All of the kick begins above the bass."""
        notes = competing(PLAN.replace(low_owner="backing"), carried(-9.0, out=-12.0, sub=-14.0), NAMES, 60.0)
        assert [note.place for note in notes] == ["out", "sub"]
