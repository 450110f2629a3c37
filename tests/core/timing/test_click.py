"""A click's own recording: its tempo, its accents, and what is no click."""

import numpy as np
import pytest

from arkund.core.errors import AudioError
from arkund.core.files.audio import ArrayMic
from arkund.core.timing.bars import bars_of
from arkund.core.timing.click import click_tempo

RATE = 44_100


def click(times, accent=4, seconds=40.0):
    """Short bursts, the first of each bar louder, over a soft hiss."""
    out = np.random.default_rng(1).normal(0, 1e-4, int(seconds * RATE)).astype(np.float32)
    burst = np.sin(2 * np.pi * 1500 * np.arange(int(0.012 * RATE)) / RATE) * np.hanning(int(0.012 * RATE))
    for k, at in enumerate(times):
        start = round(at * RATE)
        out[start : start + burst.size] += burst * (0.8 if k % accent == 0 else 0.5)
    return ArrayMic(out)


class TestClickTempo:
    """One click a beat."""

    @pytest.mark.parametrize(("bpm", "first"), [(93.7, 0.8), (141.2, 2.03)])
    def test_steady(self, bpm, first):
        """Within 0.01 BPM, the bars on the accents, to 2 ms."""
        times = np.arange(first, 36.0, 60 / bpm)
        tempo = click_tempo(click(times), RATE, 4, 4, "click.wav")
        assert tempo.bpm == pytest.approx(bpm, abs=0.01)
        assert tempo.first_bar_s == pytest.approx(first, abs=0.002)

    def test_a_change(self):
        """Another tempo from bar 6 on."""
        slow = 1.0 + np.arange(24) * 0.6
        fast = slow[-1] + 0.6 + np.arange(24) * 0.5
        bars = bars_of(click_tempo(click([*slow, *fast]), RATE, 4, 4, "click.wav"))
        assert bars.start_s(6) == pytest.approx(fast[0], abs=0.003)
        assert bars.start_s(9) == pytest.approx(fast[12], abs=0.003)

    def test_three_beats_with_pickup(self):
        """The accents say where bars begin."""
        times = 0.5 + np.arange(40) * 0.5
        tempo = click_tempo(click(times[1:], accent=3), RATE, 3, 4, "click.wav")
        assert tempo.first_bar_s == pytest.approx(1.0, abs=0.002)

    @pytest.mark.parametrize(
        ("times", "said"),
        [
            ([1.0, 2.0, 3.0], "3 clicks were found"),
            (np.cumsum(np.random.default_rng(4).uniform(0.15, 1.2, 40)), "uneven"),
        ],
    )
    def test_no_click(self, times, said):
        """Is told with the figures."""
        with pytest.raises(AudioError, match=said):
            click_tempo(click(times), RATE, 4, 4, "talk.wav")

    def test_silence(self):
        """Has no clicks."""
        with pytest.raises(AudioError, match="0 clicks"):
            click_tempo(ArrayMic(np.zeros(RATE * 5, np.float32)), RATE, 4, 4, "empty.wav")
