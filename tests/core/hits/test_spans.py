"""The parts of a song that a kit is judged by."""

import numpy as np
import pytest

from arkund.core.hits.spans import SPAN_S, busiest, calmest

RATE = 1000
LENGTH = 120 * RATE
VERSE = np.arange(2.0, 40.0, 0.5)
CHORUS = np.arange(40.0, 80.0, 0.25)
BREAK = np.arange(80.0, 110.0, 8.0)


class TestBusiest:
    """Where most is played."""

    def test_a_chorus(self):
        """All of it lies in the chorus, and is as long as it is meant to be."""
        start, stop = busiest([*VERSE, *CHORUS, *BREAK], LENGTH, RATE)
        assert stop - start == SPAN_S * RATE
        assert start >= 39_700
        assert stop <= 80_200

    @pytest.mark.parametrize(("hits", "length", "span"), [((), LENGTH, (0, 16_000)), ((1.0,), 5000, (0, 5000))])
    def test_nothing_and_short(self, hits, length, span):
        """The beginning, and all there is."""
        assert busiest(hits, length, RATE) == span

    def test_at_the_end(self):
        """It ends with the song."""
        assert busiest(np.arange(110.0, 119.0, 0.1), LENGTH, RATE)[1] == LENGTH


class TestCalmest:
    """Where least of what is still playing is."""

    def test_a_verse(self):
        """The verse, not the break in which hardly anybody plays."""
        start, stop = calmest([*VERSE, *CHORUS, *BREAK], LENGTH, RATE)
        assert stop - start == SPAN_S * RATE
        assert start >= 1000
        assert stop <= 40_500

    def test_none(self):
        """All alike, too short, nothing played."""
        assert calmest(np.arange(0.5, 119.5, 0.5)[:32], 32_000, RATE) is None
        assert calmest([], LENGTH, RATE) is None
        assert calmest([*CHORUS], LENGTH, RATE) is None
