"""Bar lines by hand: lengths, changes of tempo and meter, lines that are dragged."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Tempo, TempoChange
from arkund.core.timing.bars import bar_s, bars_of, beat_s, with_line_at

CHANGING = Tempo(
    bpm=120.0,
    first_bar_s=1.0,
    changes=(TempoChange(bar=2, bpm=60.0), TempoChange(bar=3, bpm=60.0, beats_per_bar=6, beat_unit=8)),
)


class TestLengths:
    """Of beats and bars."""

    @pytest.mark.parametrize(
        ("beats", "unit", "bpm", "bar"), [(4, 4, 120.0, 2.0), (3, 4, 90.0, 2.0), (6, 8, 60.0, 2.0), (7, 8, 120.0, 3.5)]
    )
    def test_bar(self, beats, unit, bpm, bar):
        """Compound meters count dotted beats."""
        tempo = Tempo(bpm=bpm, beats_per_bar=beats, beat_unit=unit)
        assert bar_s(tempo) == pytest.approx(bar)
        assert beat_s(tempo) * beats == pytest.approx(bar)


class TestBars:
    """Where bars begin."""

    def test_changes(self):
        """Two bars of two seconds, one of four, then two again; bars before the song go on backwards."""
        bars = bars_of(CHANGING)
        assert [bars.start_s(k) for k in range(-1, 6)] == pytest.approx([-1.0, 1.0, 3.0, 5.0, 9.0, 11.0, 13.0])
        assert bars.at_s(3, 3) == pytest.approx(10.0)

    def test_bar_of_is_the_inverse(self):
        """Every moment of a bar belongs to it, its line included."""
        bars = bars_of(CHANGING)
        for bar in range(-2, 12):
            times = bars.start_s(bar) + np.array([0.0, 0.4, 0.999]) * bars.of(bar).bar_s
            assert bars.bar_of(times).tolist() == [bar] * 3

    def test_lines(self):
        """Up to the first one at or after a moment."""
        assert bars_of(Tempo(bpm=120.0)).lines_s(3.9) == pytest.approx([0.0, 2.0, 4.0])


class TestWithLineAt:
    """A line that is dragged."""

    @pytest.mark.parametrize("bar", [1, 2, 3, 5])
    def test_only_that_line_moves(self, bar):
        """Its neighbours and all others stay."""
        before = bars_of(CHANGING).lines_s(20.0)
        moved = bars_of(with_line_at(CHANGING, bar, before[bar] + 0.05)).lines_s(20.0)
        expected = [at + (0.05 if k == bar else 0.0) for k, at in enumerate(before)]
        assert moved[: len(before)] == pytest.approx(expected, abs=1e-6)

    def test_the_first_moves_the_song(self):
        """All lines go with it."""
        assert bars_of(with_line_at(CHANGING, 0, 1.5)).start_s(5) == pytest.approx(13.5)

    def test_past_its_neighbour(self):
        """Is refused."""
        with pytest.raises(SettingsError, match="bpm"):
            with_line_at(CHANGING, 1, 3.0 + 2.1)

    def test_unordered_changes(self):
        """Are refused."""
        with pytest.raises(SettingsError, match="order of bars"):
            Tempo(changes=(TempoChange(bar=4), TempoChange(bar=2)))
