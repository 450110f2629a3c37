"""Takes joined: every mic at the same samples, hits with them, and nothing lost on the way."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import Join, MicPlan, Plan
from arkund.core.render.source import Sources
from arkund.core.takes.process import assembled, joined_rows, part_at, with_part

RATE = 48_000
FADE = 96  # 2 ms


class TwoTakes:
    """Two mics in two takes, ramps whose values say take, mic and sample; the second take lacks one mic."""

    sample_rate_hz = RATE

    def __init__(self):
        self.audio = {
            (take, mic): np.arange(40_000, dtype=np.float32) * 1e-6 + k + 0.1 * (mic == "b")
            for k, take in enumerate(("one", "two"), 1)
            for mic in ("a", "b")
        }

    def mic(self, take, mic_id):
        found = self.audio.get((take, mic_id))
        return None if found is None else ArrayMic(found)

    def content(self, take, mic_id):
        return f"{take} {mic_id}" if (take, mic_id) in self.audio else ""

    def length(self, take):
        return 40_000


def plan_of(*joins):
    mics = tuple(MicPlan(id=name, name=name, piece="snare", role="top") for name in ("a", "b"))
    return Plan(take="one", mics=mics, joins=joins)


class TestAssembled:
    """Read as one performance."""

    plan = plan_of(Join(at=10_000, take="two", from_at=12_000), Join(at=20_000, take="one", from_at=20_500))

    def expected(self, takes, mic):
        one, two = takes.audio["one", mic], takes.audio["two", mic]
        return np.concatenate([one[:10_000], two[12_000:22_000], one[20_500:]])

    @pytest.mark.parametrize("mic", ["a", "b"])
    def test_each_part_in_its_place(self, mic):
        """Outside of the crossfades to the sample, in every mic at the same ones."""
        takes = TwoTakes()
        out = Sources(self.plan, assembled(self.plan, takes)).read(self.plan.mic(mic), 0, 39_500)
        wanted = self.expected(takes, mic)
        outside = np.ones(out.size, bool)
        for at in (10_000, 20_000):
            outside[at - FADE : at] = False
        assert np.array_equal(out[outside], wanted[outside])
        assert np.all(np.abs(out[~outside] - wanted[~outside]) < 1.01)

    def test_any_span_is_the_same(self):
        """Read in pieces as well as whole."""
        takes = TwoTakes()
        mic = assembled(self.plan, takes).mic("one", "a")
        whole = mic.read(-500, 41_000)
        rng = np.random.default_rng(2)
        for start in rng.integers(-500, 39_000, 50):
            stop = start + int(rng.integers(1, 2000))
            assert np.array_equal(mic.read(start, stop), whole[start + 500 : stop + 500])

    def test_length_and_content(self):
        """The last part's end; another hash for other joins."""
        takes = TwoTakes()
        one, other = (assembled(p, takes) for p in (self.plan, plan_of(Join(at=10_000, take="two", from_at=9))))
        assert one.length("one") == 39_500
        assert one.content("one", "a") != other.content("one", "a")
        assert one.content("two", "a") == "two a"

    def test_a_mic_that_a_take_lacks(self):
        """Is silent there."""
        takes = TwoTakes()
        del takes.audio["two", "b"]
        out = assembled(self.plan, takes).mic("one", "b").read(0, 39_500)
        assert np.all(out[10_000 : 20_000 - FADE] == 0)
        assert np.array_equal(out[20_000:], takes.audio["one", "b"][20_500:])

    def test_without_joins(self):
        """The recordings themselves."""
        takes = TwoTakes()
        assert assembled(plan_of(), takes) is takes

    @pytest.mark.parametrize("alike", [0.0, 1.0])
    def test_crossfade_keeps_the_level(self, alike):
        """Equal gain for the same sound, equal power for sounds that have nothing in common."""
        rng, takes = np.random.default_rng(6), TwoTakes()
        same = rng.normal(0, 0.1, 40_000).astype(np.float32)
        takes.audio["one", "a"] = same
        takes.audio["two", "a"] = same if alike else rng.normal(0, 0.1, 40_000).astype(np.float32)
        plan = plan_of(Join(at=20_000, take="two", from_at=20_000, fade_ms=50.0, alike=alike))
        out = assembled(plan, takes).mic("one", "a").read(17_600, 20_000)
        assert np.sqrt(np.mean(out**2)) == pytest.approx(0.1, rel=0.05)
        if alike:
            assert out == pytest.approx(same[17_600:20_000], abs=1e-6)

    def test_unordered_joins(self):
        """Are refused."""
        with pytest.raises(SettingsError, match="order of time"):
            plan_of(Join(at=5, take="two"), Join(at=2, take="one"))


class TestJoinedRows:
    """Hits go with their part."""

    def test_times_and_borders(self):
        """Each take's hits within its part, in the time of the song."""
        plan = plan_of(Join(at=RATE, take="two", from_at=2 * RATE))
        rows = {
            "one": {"snare": [[0.5, -6.0, 1.0], [1.5, -6.0, 1.0]]},
            "two": {"snare": [[1.9, -3.0, 1.0], [2.25, -3.0, 0.9]]},
        }
        assert joined_rows(rows, plan, RATE) == {"snare": [[0.5, -6.0, 1.0], [1.25, -3.0, 0.9]]}


class TestWithPart:
    """Bars put in the place of others."""

    def test_there_and_back(self):
        """What followed goes on where it would have been."""
        joins = with_part(plan_of(), 1000, 2000, "two", 1100, 2.0)
        assert [(j.at, j.take, j.from_at) for j in joins] == [(1000, "two", 1100), (2000, "one", 2000)]

    def test_putting_it_back_leaves_no_join(self):
        """The home take over all of it again."""
        plan = plan_of(*with_part(plan_of(), 1000, 2000, "two", 1100, 2.0))
        assert with_part(plan, 1000, 2000, "one", 1000, 2.0) == ()

    def test_over_several_joins(self):
        """Those within go, the one after the end holds."""
        plan = plan_of(*with_part(plan_of(), 1000, 2000, "two", 1000, 2.0))
        plan = plan.replace(joins=with_part(plan, 3000, None, "two", 3000, 2.0))
        joins = with_part(plan, 500, 2500, "two", 600, 2.0)
        assert [(j.at, j.take, j.from_at) for j in joins] == [
            (500, "two", 600),
            (2500, "one", 2500),
            (3000, "two", 3000),
        ]

    def test_no_sliver_between(self):
        """A part that would be shorter than is worth joining goes to what follows, and the same take beside itself is one part."""
        plan = plan_of(*with_part(plan_of(), 2010, 3000, "two", 2010, 2.0))
        joins = with_part(plan, 1000, 2000, "two", 1000, 2.0, shortest=100)
        assert [(j.at, j.take) for j in joins] == [(1000, "two"), (3000, "one")]
        other = with_part(plan, 1000, 2000, "three", 1000, 2.0, shortest=100)
        assert [(j.at, j.take) for j in other] == [(1000, "three"), (2010, "two"), (3000, "one")]

    def test_a_loop_from_the_same_take(self):
        """Is a join too."""
        joins = with_part(plan_of(), 5000, 6000, "one", 1000, 2.0)
        plan = plan_of(*joins)
        assert part_at(plan, 5500).from_at == 1000
        assert part_at(plan, 6500).from_at == 6000
