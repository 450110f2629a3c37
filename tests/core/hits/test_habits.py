"""What the playing leads one to expect: rows, repeated bars and company, against patterns written down by hand."""

import numpy as np
import pytest

from arkund.core.hits import habits
from arkund.core.hits.habits import LONG, NEIGHBOURS, OFF, PLACES, SHARE, SHORT, STEP, expected

KICK, SNARE, HAT = range(3)


def asked_about(strokes: list[tuple[int, int]], places: list[tuple[int, int]]) -> np.ndarray:
    """Return what strokes (piece, frame), all 90 % sure, lead one to expect at unlikely places (piece, frame)."""
    rows = sorted([(frame, piece, 0.9) for piece, frame in strokes] + [(frame, piece, 0.01) for piece, frame in places])
    frames, pieces, sure = (np.array(column) for column in zip(*rows, strict=True))
    at = [rows.index((frame, piece, 0.01)) for piece, frame in places]
    order = np.argsort(at)
    out = np.empty((len(places), habits.MEASURES), np.float32)
    out[order] = expected(frames, pieces, sure, sure > 0.1, np.array(at)[order], 3)
    return out


class TestRow:
    """A piece that keeps time."""

    def test_a_gap(self):
        """In the gap of a row all neighbours stand where they should; a place 7 ms late lies 7 ms off."""
        row = [(HAT, 1000 + 250 * k) for k in range(20) if k != 9]
        here, late = asked_about(row, [(HAT, 3250), (HAT, 3257)])
        assert here[STEP] == 250
        assert here[NEIGHBOURS] == pytest.approx([0.9] * 6)
        assert here[OFF] == pytest.approx([0, 0, 0])
        assert late[OFF] == pytest.approx([-7, -7, -7])

    def test_between(self):
        """Half a step off, a row has nothing where its neighbours would be."""
        (between,) = asked_about([(HAT, 1000 + 250 * k) for k in range(20)], [(HAT, 3375)])
        assert between[NEIGHBOURS] == pytest.approx([0.0] * 6)
        assert between[OFF] == pytest.approx([habits.NOT_THERE] * 3)

    def test_a_slower_second_half(self):
        """The step is that of the strokes around, not of the whole song."""
        row = [(HAT, 250 * k) for k in range(1, 21)] + [(HAT, 5000 + 400 * k) for k in range(1, 21)]
        early, late = asked_about(row, [(HAT, 2600), (HAT, 9500)])
        assert (early[STEP], late[STEP]) == (250, 400)

    def test_itself(self):
        """A stroke is not its own neighbour."""
        frames = np.array([1000, 1250, 1500, 1750, 2000])
        sure = np.full(5, 0.9)
        (found,) = expected(frames, np.full(5, HAT), sure, sure > 0, np.array([4]), 3)
        assert found[NEIGHBOURS] == pytest.approx([0.9, 0.9, 0.9, 0.0, 0.0, 0.0])


class TestRepeats:
    """Bars that come again."""

    BAR = ((KICK, 0), (KICK, 370), (SNARE, 500), (KICK, 1130), (SNARE, 1500), (KICK, 1790))

    def test_the_bar_before_and_after(self):
        """In a bar that lacks one kick, the two bars before and after have it; where no bar has one, they have none."""
        strokes = [(p, 2000 * bar + 500 + at) for bar in range(12) for p, at in self.BAR if (bar, at) != (6, 1130)]
        missing, never = asked_about(strokes, [(KICK, 13_630), (KICK, 13_400)])
        assert missing[LONG][:4] == pytest.approx([0.9] * 4)
        assert missing[LONG][4] > 0.9
        assert never[LONG][:4] == pytest.approx([0.0] * 4)

    def test_the_song_ends(self):
        """Beyond the song nothing is claimed."""
        strokes = [(p, 2000 * bar + 500 + at) for bar in range(6) for p, at in self.BAR]
        (first,) = asked_about(strokes, [(KICK, 1640)])
        assert first[LONG][:2] == pytest.approx([habits.NOT_THERE] * 2)
        assert first[LONG][3] == pytest.approx(0.9)

    def test_no_repetition(self):
        """Strokes at random places are little like themselves at any delay."""
        places = np.sort(np.random.default_rng(4).choice(24_000, 60, replace=False))
        (found,) = asked_about([(KICK, int(at)) for at in places], [(KICK, 12_001)])
        assert found[LONG][4] < 0.5
        assert found[SHORT][4] < 0.5


class TestCompany:
    """What is struck together."""

    def test_struck_along(self):
        """A hat that sounds with eight of nine other snares, and never with a kick."""
        snares = [1500 + 1000 * k for k in range(10)]
        strokes = [(SNARE, at) for at in snares] + [(KICK, at + 500) for at in snares]
        strokes += [(HAT, at + 4) for k, at in enumerate(snares) if k not in (3, 6)]
        with_snare, with_kick, alone = asked_about(strokes, [(HAT, 4503), (HAT, 5003), (HAT, 4750)])
        assert with_snare[SHARE] == pytest.approx(8 / 9)
        assert with_snare[PLACES] == 9
        assert with_kick[SHARE] == 0.0
        assert alone[SHARE] == habits.NOT_THERE


class TestLittleToGoBy:
    """Hardly anything is known."""

    def test_no_stroke(self):
        """Without a likely stroke no row, no repetition and no company is claimed."""
        (found,) = asked_about([], [(HAT, 1000)])
        assert found[NEIGHBOURS] == pytest.approx([habits.NOT_THERE] * 6)
        assert found[LONG][:4].max() <= 0.0
        assert found[SHARE] == habits.NOT_THERE

    def test_nothing_asked(self):
        """No candidate, no measures."""
        none = np.zeros(0, np.int64)
        assert expected(none, none, none.astype(float), none.astype(bool), none, 3).shape == (0, habits.MEASURES)
