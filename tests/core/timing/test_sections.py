"""Sections from changes in the playing."""

import pytest

from arkund.core.demo.score import Playing, bar_s, play
from arkund.core.plan.plan import Plan, Section, Tempo
from arkund.core.timing.bars import bars_of
from arkund.core.timing.sections import propose, sections
from tests.core.timing.playing import hits_of

PARTS = (
    ("straight", "hihat", 8, -6.0),
    ("straight", "ride", 8, -6.0),
    ("straight", "hihat", 8, -6.0),
    ("busy", "hihat", 8, -2.0),
)


class TestSections:
    """Verse on the hat, chorus on the ride, the verse again, a busy end."""

    @pytest.mark.parametrize("seed", [31, 32, 33])
    def test_found_at_their_bars(self, seed):
        """Within a bar; what is played alike has the same letter."""
        strokes, at = [], 1.0
        for number, (style, cymbal, bars, level) in enumerate(PARTS):
            playing = Playing(
                style=style, cymbal=cymbal, hat_db=level, bpm=120.0, bars=bars, start_s=at, seed=seed + number
            )
            strokes += play(playing)
            at += bars * bar_s(playing)
        found = sections(hits_of(strokes), bars_of(Tempo(bpm=120.0, first_bar_s=1.0)))
        assert [s.bar for s in found] == pytest.approx([0, 8, 16, 24], abs=1)
        assert [s.name for s in found][:3] == ["part A", "part B", "part A 2"]
        assert found[3].name not in ("part A 3", "part B 2")

    def test_one_kind_of_playing(self):
        """Is no section: fills come back every few bars."""
        hits = hits_of(play(Playing(bpm=120.0, bars=32, start_s=1.0, seed=34)))
        assert sections(hits, bars_of(Tempo(bpm=120.0, first_bar_s=1.0))) == []

    def test_few_bars_or_none(self):
        """Say nothing."""
        assert sections({}, bars_of(Tempo())) == []
        assert sections(hits_of(play(Playing(bars=5))), bars_of(Tempo())) == []


class TestPropose:
    """Only where none are named."""

    found = (Section(name="part A", bar=0), Section(name="part B", bar=8))

    def test_named_ones_stay(self):
        """A session with sections gets no note."""
        (note,) = propose(Plan(), self.found)
        assert len(note.changes["sections"]) == 2
        assert propose(Plan(sections=self.found), self.found) == []
