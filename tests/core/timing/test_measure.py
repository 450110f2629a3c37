"""Distances from the grid against known offsets."""

import dataclasses

import pytest

from arkund.core.plan.plan import Meant, Tempo
from arkund.core.timing.measure import by_piece, deviations, drift
from arkund.core.timing.propose import propose, propose_tempo
from arkund.core.timing.tempo import MapGuess
from tests.core.timing.playing import hit


class TestDeviations:
    """Signed distance in ms, by bar and place."""

    def test_known_offsets(self):
        """Late is positive."""
        tempo = Tempo(bpm=120.0, first_bar_s=1.0)
        rows = deviations({"kick": [hit("kick", 1.0), hit("kick", 3.01)], "snare": [hit("snare", 1.488)]}, tempo, 16)
        assert [(d.piece, d.bar, d.meant, round(d.off_ms, 3)) for d in rows] == [
            ("kick", 0, 0.0, 0.0),
            ("snare", 0, 1.0, -12.0),
            ("kick", 1, 0.0, 10.0),
        ]

    def test_just_before_the_bar_belongs_to_the_next(self):
        """A pushed first beat is early, not a late sixteenth."""
        (row,) = deviations({"kick": [hit("kick", 2.98)]}, Tempo(bpm=120.0, first_bar_s=1.0), 16)
        assert (row.bar, row.meant) == (1, 0.0)
        assert row.off_ms == pytest.approx(-20.0)

    def test_by_piece(self):
        """Mean push and spread."""
        tempo = Tempo(bpm=120.0)
        rows = deviations({"snare": [hit("snare", 0.49), hit("snare", 1.52)]}, tempo, 16)
        (found,) = by_piece(rows)
        assert (found.hits, found.furthest_ms) == (2, pytest.approx(20.0))
        assert found.mean_ms == pytest.approx(5.0)

    def test_a_bar_of_its_own_grid(self):
        """A triplet bar between straight ones is measured on thirds."""
        tempo = Tempo(bpm=120.0)
        hits = {"hihat": [hit("hihat", 2.0 + 1 / 6), hit("hihat", 0.125)]}
        on, third = deviations(hits, tempo, 16, (Meant(bar=1, grid=12),))
        assert on.off_ms == pytest.approx(0.0, abs=1e-6)
        assert (third.bar, third.off_ms) == (1, pytest.approx(0.0, abs=1e-6))

    def test_swing_moves_every_second_place(self):
        """At 66.7 % the off-beat eighth lies on the last triplet."""
        (row,) = deviations({"hihat": [hit("hihat", 1 / 3)]}, Tempo(bpm=120.0), 8, swing_percent=200 / 3)
        assert row.meant == pytest.approx(2 / 3)
        assert row.off_ms == pytest.approx(0.0, abs=1e-6)


class TestDrift:
    """The kit against the grid over the song."""

    def test_a_slow_fall_behind(self):
        """Half a millisecond a bar."""
        hits = {"kick": [hit("kick", 2.0 * bar + 0.0005 * bar) for bar in range(20)]}
        curve = dict(drift(deviations(hits, Tempo(bpm=120.0), 16)))
        assert curve[10] == pytest.approx(5.0, abs=0.1)


class TestPropose:
    """Notes on bars that stick out."""

    tempo = Tempo(bpm=120.0)

    def test_outliers_are_named_not_moved(self):
        """A finding without a change."""
        hits = {"snare": [hit("snare", 0.5), hit("snare", 1.53)], "kick": [hit("kick", 0.0)]}
        notes = propose(deviations(hits, self.tempo, 16))
        assert len(notes) == 1
        assert notes[0].changes == {}


class TestProposeTempo:
    """Bar lines that the hits contradict."""

    guess = MapGuess(Tempo(bpm=118.0, first_bar_s=1.2), 0.97, True, 0.5, 0.5)

    def test_other_lines(self):
        """The hits' map, with its doubt."""
        (note,) = propose_tempo(Tempo(bpm=120.0), self.guess)
        assert note.changes == {"tempo": self.guess.tempo.to_json()}
        assert "97%" in note.evidence

    @pytest.mark.parametrize(
        "tempo", [Tempo(bpm=118.02, first_bar_s=1.21), Tempo(bpm=118.0, first_bar_s=1.2 - 240 / 118)]
    )
    def test_lines_that_fit(self, tempo):
        """Say nothing, a bar earlier or later included."""
        assert propose_tempo(tempo, self.guess) == []

    def test_doubtful_hits(self):
        """Say nothing either."""
        assert propose_tempo(Tempo(), None) == []
        assert propose_tempo(Tempo(), dataclasses.replace(self.guess, score=0.4)) == []
