"""What the listening bar gets: matched, soft at its ends, never clipped."""

import numpy as np
import pytest

from arkund.core.dsp.loudness import quick_loudness_lufs
from arkund.core.render.loop import DIM_DB, SAFE_PEAK, finish, in_front, match_db

RATE = 48_000


def noise(level: float) -> np.ndarray:
    return (np.random.default_rng(1).standard_normal((RATE, 2)) * level).astype(np.float32)


def loudness(audio: np.ndarray) -> float:
    return quick_loudness_lufs(audio, RATE)


class TestMatchDb:
    """Equal loudness, because louder always seems better."""

    @pytest.mark.parametrize("gain", [0.25, 1.0, 3.0])
    def test_undoes_a_gain(self, gain):
        """A plain gain is matched exactly."""
        assert match_db(loudness(noise(0.05)), loudness(noise(0.05) * gain)) == pytest.approx(
            -20 * np.log10(gain), abs=0.01
        )

    def test_silence_is_not_raised(self):
        """Nothing is matched to silence."""
        assert match_db(loudness(noise(0.1)), loudness(np.zeros((RATE, 2), np.float32))) == 0.0


class TestFinish:
    """Ends, peaks and figures."""

    def test_soft_ends(self):
        """The loop starts and ends at zero, its middle is untouched."""
        audio = noise(0.1)
        loop = finish(audio, RATE, 0.0, loudness(audio))
        assert loop.audio[0, 0] == loop.audio[-1, 0] == 0.0
        assert np.array_equal(loop.audio[5000:6000], audio[5000:6000])
        assert loop.loudness_lufs == pytest.approx(loudness(audio), abs=0.05)

    def test_the_figure_is_that_of_what_is_played(self):
        """Loudness after the match, measured again."""
        loop = finish(noise(0.1), RATE, -7.5, loudness(noise(0.1)))
        assert loop.loudness_lufs == pytest.approx(loudness(loop.audio), abs=0.05)

    def test_never_over_full_scale(self):
        """What would clip is lowered, and the match says so."""
        loop = finish(noise(1.0), RATE, 6.0, 0.0)
        assert np.abs(loop.audio).max() <= SAFE_PEAK + 1e-6
        assert loop.matched_db < 0


class TestInFront:
    """One drum within the kit."""

    def test_others_are_dimmed(self, straight):
        """By DIM_DB; the chosen drum keeps its level."""
        plan = in_front(straight.plan, "snare")
        assert plan.mic("SN top").mix.level_db == 0.0
        assert plan.mic("KD in").mix.level_db == DIM_DB
