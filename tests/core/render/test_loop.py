"""What the listening bar gets: matched, soft at its ends, never clipped."""

import numpy as np
import pytest

from arkund.core.dsp.loudness import quick_loudness_lufs
from arkund.core.plan.plan import Plan
from arkund.core.render.loop import DIM_DB, SAFE_PEAK, finish, in_front, match_db
from arkund.core.render.render import render
from arkund.core.rig import usual
from arkund.core.rig.strips import Send
from arkund.core.tools.tone import Band, Tone

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
        """As they are heard, through the paths as well: without the chosen drum the kit is DIM_DB lower, with it alone it is what it was."""
        sends = (Send(id="punch", level_db=-3.0), Send(id="sustain", level_db=-6.0))
        mics = tuple(mic.replace(sends=sends) for mic in straight.plan.mics)
        linear = {"level_db": 0.0, "tools": (Tone(bands=(Band(gain_db=4.0),)),)}
        plan = straight.plan.replace(mics=mics, paths=(usual.punch(**linear), usual.sustain(**linear)))

        def heard(plan: Plan, others: bool) -> np.ndarray:
            some = [mic.replace(mute=(mic.piece == "snare") == others) for mic in plan.mics]
            return render(plan.replace(mics=tuple(some)), straight, (200_000, 260_000))

        front = in_front(plan, "snare")
        dimmed, before = heard(front, others=True), heard(plan, others=True)
        assert np.abs(dimmed - before * 10 ** (DIM_DB / 20)).max() < 1e-5
        assert np.abs(before).max() > 0.01
        assert np.array_equal(heard(front, others=False), heard(plan, others=False))
