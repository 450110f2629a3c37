"""The hit leveller: each hit by its own gain, nothing within a hit changed, nothing stepped."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Cut, MicPlan, Plan
from arkund.core.render.render import render
from arkund.core.tools import leveller
from arkund.core.tools.leveller import Leveller, changes_db
from tests.core.tools.test_regions import Noise
from tests.stages import RATE

STRIKES = ((10_000, 2.0), (30_000, -6.0), (30_300, -20.0), (60_000, -3.0))


def gain_of(settings: Leveller, start: int = 0, stop: int = 96_000) -> np.ndarray:
    return leveller.gains(settings, np.array, start, stop, RATE)


class TestGains:
    """Towards two targets."""

    @pytest.mark.parametrize("strength", [0.0, 0.5, 1.0])
    def test_towards_the_targets(self, strength: float):
        """Strong hits to one, soft ones to the other, so much of the way, and no more than the most."""
        mine = Leveller(strength=strength, strong_db=-1.0, soft_db=-12.0, part_db=-9.0, most_db=5.0)
        wanted = np.clip(strength * np.array([-3.0, 5.0, 8.0, 2.0]), -5.0, 5.0)
        assert changes_db(mine, np.array([2.0, -6.0, -20.0, -3.0])) == pytest.approx(wanted)

    def test_a_hit_keeps_its_shape(self):
        """From its lead to the change before the next one, one gain."""
        mine = Leveller(strength=1.0, most_db=24.0, strikes=STRIKES, lead_ms=2.0, change_ms=10.0)
        out, steps = gain_of(mine), 10 ** (changes_db(mine, np.array([db for _, db in STRIKES])) / 20)
        ends = [30_000 - 576, 30_300 - 96 - 300, 60_000 - 576, 96_000]
        for (at, _), step, end in zip(STRIKES, steps, ends, strict=True):
            if end > at:
                assert np.ptp(out[at - 96 : end]) == 0.0
                assert out[at] == pytest.approx(step, rel=1e-6)
        assert np.all(out[: 10_000 - 576] == 1.0)

    def test_like_the_plain_loop(self):
        """Sample by sample in double precision, where hits come sooner than the gain changes as well."""
        mine = Leveller(strength=0.8, strikes=STRIKES, change_ms=40.0)
        assert np.max(np.abs(gain_of(mine)[:66_000] - leveller.oracle(np.ones(66_000), mine, RATE))) < 5e-7

    def test_no_step(self):
        """A cubic change is at most 1.5 times as steep as a straight one."""
        mine = Leveller(strength=1.0, most_db=24.0, strikes=STRIKES, change_ms=5.0)
        assert np.abs(np.diff(gain_of(mine).astype(float))).max() < 1.5 * 8.0 / 240

    def test_any_part_is_the_whole_there(self):
        """Of ten thousand hits."""
        rng = np.random.default_rng(6)
        at = np.cumsum(rng.integers(60, 9_000, 10_000)).tolist()
        mine = Leveller(
            strikes=tuple((each, float(db)) for each, db in zip(at, rng.uniform(-25, 4, 10_000), strict=True))
        )
        middle = at[5_000]
        whole = gain_of(mine, middle - 50_000, middle + 50_000)
        for start, length in zip(rng.integers(0, 90_000, 30), rng.integers(1, 9_000, 30), strict=True):
            part = gain_of(mine, middle - 50_000 + start, middle - 50_000 + start + length)
            assert np.array_equal(part, whole[start : start + length])

    def test_without_hits_it_is_a_wire(self):
        """And what is in no order is refused."""
        assert np.all(gain_of(Leveller()) == 1.0)
        with pytest.raises(SettingsError, match="in order of time"):
            Leveller(strikes=((5, 0.0), (4, 0.0)))


def test_it_follows_its_hits_through_the_edits():
    """A gain goes where its hit is moved to."""
    mic = MicPlan(id="k", name="K", piece="kick", role="out")
    plan = Plan(take="t", mics=(mic,), cuts=(Cut(at=20_000, shift=500),))
    tool = Leveller(on=True, strength=1.0, most_db=24.0, strikes=((10_000, 0.0), (60_000, -6.0)))
    levelled = plan.replace(mics=(mic.replace(tools=(tool,)),))
    bare, heard = (render(each, Noise(), (0, 90_000), "strip:k") for each in (plan, levelled))
    assert np.array_equal(heard[9_950:55_000], bare[9_950:55_000])
    assert np.allclose(heard[60_500:], bare[60_500:] * 10 ** (6 / 20), rtol=1e-5)
