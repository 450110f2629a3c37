"""How a gap is closed: by which method, and that no splice clicks."""

import itertools

import numpy as np
import pytest
from scipy import signal

from arkund.core.files.audio import ArrayMic
from arkund.core.timing.gaps import close_gap
from arkund.core.timing.process import Edited, moved_sample
from tests.core.timing.playing import rise_db
from tests.kits import small_kit
from tests.seeds import seeds

RATE = 48_000


def ringing(seconds=1.0, hz=180.0, decay_s=0.5):
    t = np.arange(int(seconds * RATE)) / RATE
    return ArrayMic((np.sin(2 * np.pi * hz * t) * np.exp(-t / decay_s)).astype(np.float32))


class TestMethod:
    """Chosen by what lies between the strokes."""

    @pytest.mark.parametrize(
        ("decay_s", "tail_s", "shift_s", "method", "reason"),
        [
            (0.5, 0.4, 0.01, "stretch", "still rings"),
            (0.03, 0.4, 0.01, "slices", "died away"),
            (0.5, 0.4, 0.001, "slices", "too small"),
            (0.5, 0.05, 0.01, "slices", "too soon"),
        ],
    )
    def test_auto(self, decay_s, tail_s, shift_s, method, reason):
        """Said with its reason."""
        read = ringing(decay_s=decay_s).read
        gap = close_gap(read, 0, round(tail_s * RATE), 0, round(shift_s * RATE), RATE, "auto")
        assert gap.method == method
        assert reason in gap.reason

    def test_too_far_for_the_tail(self):
        """A stretch by half of the tail becomes a cut."""
        gap = close_gap(ringing().read, 0, round(0.1 * RATE), 0, round(0.06 * RATE), RATE, "stretch")
        assert gap.method == "slices"

    @pytest.mark.parametrize("shift", [-1500, -300, 40, 480, 1900])
    @pytest.mark.parametrize("method", ["slices", "stretch"])
    def test_the_next_attack_gets_the_whole_shift(self, method, shift):
        """And the stroke before keeps its own, attack included."""
        gap = close_gap(ringing().read, 2000, 24_000, 17, 17 + shift, RATE, method)
        assert gap.cuts[-1].shift == 17 + shift
        assert gap.cuts[-1].at < 24_000
        if gap.method == "stretch":
            assert gap.cuts[0].at > 2000 + round(0.03 * RATE)
        assert [c.at for c in gap.cuts] == sorted({c.at for c in gap.cuts})


class TestSplices:
    """What is heard at the joints."""

    @pytest.mark.parametrize("shift", [-700, -250, 250, 700])
    def test_a_stretched_tone_stays_a_tone(self, shift):
        """A ringing tone goes on without a step: what is beside its frequency stays 40 dB below it."""
        mic = ringing(decay_s=2.0)
        gap = close_gap(mic.read, 0, 30_000, 0, shift, RATE, "stretch")
        out = Edited(gap.cuts, 2.0, RATE).read(mic.read, 2000, 30_000 + shift)
        power = np.abs(np.fft.rfft(out * signal.windows.blackmanharris(out.size))) ** 2
        hz = np.fft.rfftfreq(out.size, 1 / RATE)
        assert 10 * np.log10(power[hz > 1000].max() / power.max()) < -60
        assert 10 * np.log10(power[np.abs(hz - 180) > 60].max() / power.max()) < -25

    @pytest.mark.parametrize("method", ["slices", "stretch"])
    @pytest.mark.parametrize("seed", seeds(821, 822))
    def test_no_click_above_2_khz(self, seed, method):
        """In every mic the energy above 2 kHz in the 5 ms around a splice in a tail is less than 1 dB above its surroundings, on the mean;
        no single one stands out more than the same tail does without a splice.
        """
        kit = small_kit(seed=seed, style="slow", bpm=72.0, bars=6)
        names = [mic.id for mic in kit.plan.mics]
        times = np.sort([h.time_s for mine in kit.hits.values() for h in mine])

        def total(start, stop):
            return np.sum([kit.readers[n].read(start, stop) for n in names], axis=0)

        sos = signal.butter(6, 2000, "high", fs=RATE, output="sos")
        spliced, plain = [], []
        for before, after in itertools.pairwise(times):
            if after - before < 0.3:
                continue
            gap = close_gap(total, round(before * RATE), round(after * RATE), 0, 400, RATE, method)
            edited = Edited(gap.cuts, 2.0, RATE)
            low, high = round(before * RATE), round(after * RATE)
            for n in names:
                raw = signal.sosfilt(sos, kit.readers[n].read(low, high + 400))
                out = signal.sosfilt(sos, edited.read(kit.readers[n].read, low, high + 400))
                for cut in gap.cuts:
                    at = moved_sample(gap.cuts, cut.at) - cut.shift - low
                    spliced.append(rise_db(out, at))
                    plain.append(rise_db(raw, at))
        assert len(spliced) > 100
        assert np.mean(spliced) < 1.0
        assert np.quantile(spliced, 0.99) < max(1.0, np.quantile(plain, 0.99)) + 1.0
