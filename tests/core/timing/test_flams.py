"""Flams and strokes that fell apart."""

import pytest

from arkund.core.plan.plan import Tempo
from arkund.core.timing.flams import flams, without_graces
from arkund.core.timing.measure import by_piece, deviations
from tests.core.timing.playing import hit


class TestFlams:
    """Strokes that were meant as one."""

    def test_kinds(self):
        """A drummer's flam, kick and snare apart; a ghost near a kick, far strokes and a grace note beside a cymbal are none."""
        hits = {
            "snare": [
                hit("snare", 0.475, level_db=-8.0),
                hit("snare", 0.5),
                hit("snare", 1.51),
                hit("snare", 2.52, ghost=True),
            ],
            "kick": [hit("kick", 1.5), hit("kick", 2.5), hit("kick", 3.5)],
            "hihat": [hit("hihat", 0.502), hit("hihat", 3.502)],
        }
        found = [(f.first, f.second, round(f.apart_ms)) for f in flams(deviations(hits, Tempo(bpm=120.0), 16))]
        assert found == [("snare", "snare", 25), ("kick", "snare", 10)]


class TestWithoutGraces:
    """A grace note is meant to be early."""

    def test_figures_are_of_the_strokes(self):
        """Back-beats 2 ms late stay so, whatever comes 30 ms before some of them."""
        main = [hit("snare", 0.502 + k) for k in range(8)]
        graces = [hit("snare", 0.472 + k, level_db=-9.0) for k in range(0, 8, 3)]
        rows = deviations({"snare": sorted(main + graces, key=lambda h: h.time_s)}, Tempo(bpm=120.0), 16)
        (snare,) = by_piece(without_graces(rows))
        assert (snare.hits, snare.spread_ms) == (8, pytest.approx(0.0, abs=1e-6))
        assert snare.furthest_ms == pytest.approx(2.0)
