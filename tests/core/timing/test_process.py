"""Cuts: all mics at the same samples, nothing after the last one moved, no clicks."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import Cut
from arkund.core.timing.process import Edited, moved_sample, recorded_sample, segments

RATE = 48_000


def edited(x, cuts, start=0, stop=None, fade=2.0):
    reader = ArrayMic(x)
    return Edited(cuts, fade, RATE).read(reader.read, start, len(x) if stop is None else stop)


class TestReadEdited:
    """Pieces slide, tails fill, crossfades end before the attack."""

    def test_no_cuts(self):
        """Nothing to do changes nothing."""
        x = np.random.default_rng(1).standard_normal(9600).astype(np.float32)
        assert np.array_equal(edited(x, ()), x)

    @pytest.mark.parametrize("shift", [-700, -30, 50, 900])
    def test_between_the_cuts_everything_is_shifted(self, shift):
        """Attack included, sample for sample; before and after, nothing moves."""
        x = np.random.default_rng(2).standard_normal(48_000).astype(np.float32)
        cuts = (Cut(at=10_000, shift=shift), Cut(at=30_000, shift=0))
        out = edited(x, cuts)
        assert np.array_equal(
            out[10_000 + max(shift, 0) : 29_000 + min(shift, 0)],
            x[10_000 + max(-shift, 0) : 29_000 + min(-shift, 0)][: 19_000 - abs(shift)],
        )
        first = 10_000 + min(shift, 0) - 96
        assert np.array_equal(out[:first], x[:first])
        assert np.array_equal(out[30_000:], x[30_000:])

    def test_spans_equal_the_whole(self):
        """Any span, read by itself, is the same."""
        x = np.random.default_rng(3).standard_normal(48_000).astype(np.float32)
        cuts = (Cut(at=8000, shift=300), Cut(at=20_000, shift=-240), Cut(at=33_000, shift=0))
        whole = edited(x, cuts)
        for start in range(0, 47_000, 1713):
            assert np.array_equal(edited(x, cuts, start, start + 1000), whole[start : start + 1000])

    def test_a_steady_tone_stays_free_of_clicks(self):
        """Crossfading a tail within itself adds no energy above 2 kHz beyond 1 dB of its surroundings."""
        rng = np.random.default_rng(4)
        t = np.arange(48_000) / RATE
        x = sum(np.sin(2 * np.pi * f * t + rng.uniform(0, 6)) for f in (180, 410, 3300, 5200)) * np.exp(-t / 0.6)
        out = edited(x.astype(np.float32), (Cut(at=20_000, shift=400), Cut(at=40_000, shift=0)))
        from scipy import signal

        high = signal.sosfilt(signal.butter(4, 2000, "high", fs=RATE, output="sos"), out)
        joint = 10 * np.log10(np.mean(high[19_760:20_240] ** 2))
        around = 10 * np.log10(np.mean(np.r_[high[18_000:19_500], high[20_500:22_000]] ** 2))
        assert joint - around < 1.0

    def test_mics_keep_their_distance(self):
        """Two mics cut together keep their delay to the sample."""
        rng = np.random.default_rng(5)
        x = rng.standard_normal(30_000)
        a, b = x[100:], x[:-100]
        cuts = (Cut(at=9000, shift=333), Cut(at=21_000, shift=0))
        out_a, out_b = edited(a.astype(np.float32), cuts), edited(b.astype(np.float32), cuts)
        part = slice(10_000, 20_000)
        correlation = np.correlate(out_b[part], out_a[10_100:19_900], "valid")
        assert int(np.argmax(correlation)) == 200


class TestMovedSample:
    """Where a sample of the recording is heard."""

    def test_shift_by_place(self):
        """The shift of the last cut before it."""
        cuts = (Cut(at=100, shift=7), Cut(at=200, shift=-3))
        assert [moved_sample(cuts, at) for at in (50, 100, 150, 200, 900)] == [50, 107, 157, 197, 897]

    def test_equal_shifts_need_no_joint(self):
        """A cut that changes nothing makes no piece."""
        assert len(segments((Cut(at=100, shift=5), Cut(at=200, shift=5)), 2.0, RATE)) == 2


class TestRecordedSample:
    """The way back from the song to the recording."""

    @pytest.mark.parametrize("seed", range(4))
    def test_of_what_is_heard(self, seed):
        """Every sample that is not covered by a later piece comes back; what is heard at a place is what lies there."""
        rng = np.random.default_rng(seed)
        ats = np.sort(rng.choice(np.arange(2000, 90_000), 12, replace=False))
        cuts = tuple(Cut(at=int(at), shift=int(rng.integers(-800, 800)), fade_ms=0.1) for at in ats)
        for at in rng.integers(0, 95_000, 300).tolist():
            place = moved_sample(cuts, at)
            covered = any(cut.at > at and cut.at + cut.shift <= place for cut in cuts)
            assert covered or recorded_sample(cuts, place) == at
        x = rng.standard_normal(100_000).astype(np.float32)
        out = edited(x, cuts, fade=0.1)
        same = [out[at] == x[recorded_sample(cuts, at)] for at in rng.integers(1000, 95_000, 400).tolist()]
        assert np.mean(same) > 0.9  # all but fades and filled gaps

    def test_without_cuts(self):
        """As it is."""
        assert recorded_sample((), 123) == 123
