"""Places of a bar, and what the drummer meant."""

import numpy as np
import pytest

from arkund.core.plan.plan import Tempo
from arkund.core.timing.bars import bars_of
from arkund.core.timing.grid import STRAIGHT, TRIPLET, guess, places
from tests.core.timing.playing import hit


class TestPlaces:
    """In beats from the bar line."""

    @pytest.mark.parametrize(
        ("beats", "unit", "grid", "expected"),
        [
            (4, 4, 4, [0, 1, 2, 3, 4]),
            (2, 4, 12, [0, 1 / 3, 2 / 3, 1, 4 / 3, 5 / 3, 2]),
            (6, 8, 8, [0, 1, 2, 3, 4, 5, 6]),
            (2, 4, 32, np.arange(17) / 8),
        ],
    )
    def test_meters(self, beats, unit, grid, expected):
        """The next bar's line is the last place."""
        assert places(beats, unit, grid) == pytest.approx(np.array(expected))

    def test_swing(self):
        """Only every second place moves."""
        assert places(2, 4, 8, 60.0) == pytest.approx([0, 0.6, 1, 1.6, 2])


class TestGuess:
    """Straight or triplet, bar by bar."""

    def test_shuffle_between_straight_bars(self):
        """Found in spite of a human spread; bars without strokes off the beat say nothing."""
        rng, bars = np.random.default_rng(71), bars_of(Tempo(bpm=96.0))
        meant = [STRAIGHT, TRIPLET, None, STRAIGHT, TRIPLET, TRIPLET]
        hits = []
        for bar, kind in enumerate(meant):
            parts = {STRAIGHT: (0.25, 0.5, 0.75), TRIPLET: (1 / 3, 2 / 3), None: ()}[kind]
            for beat in range(4):
                hits += [hit("hihat", bars.at_s(bar, beat + part) + rng.normal(0, 0.006)) for part in (0, *parts)]
        assert guess({"hihat": hits}, bars) == {bar: kind for bar, kind in enumerate(meant) if kind}
