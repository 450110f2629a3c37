"""Regions: a mic cut by hits. Inside nothing is touched, outside it is down by what is set, and nothing steps."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Cut, LineUp, MicPlan, Plan
from arkund.core.render.render import render
from arkund.core.render.stream import Stream
from arkund.core.tools import regions
from arkund.core.tools.regions import MOST_SPANS, Regions
from tests.stages import RATE

SPANS = ((9_000, 20_000), (21_000, 30_000), (70_000, 70_400))


def gain_of(settings: Regions, start: int = 0, stop: int = 96_000) -> np.ndarray:
    return regions.gains(settings, np.array, start, stop, RATE)


class Noise:
    """One mic of noise."""

    sample_rate_hz = RATE
    x = np.random.default_rng(41).standard_normal(96_000).astype(np.float32) * np.float32(0.1)

    def mic(self, take: str, mic_id: str):
        return self

    @property
    def read(self):
        return lambda start, stop: np.pad(self.x, (max(-start, 0), max(stop - self.x.size, 0)))[
            max(start, 0) : max(stop, 0) + max(-start, 0)
        ]

    def length(self, take: str = "") -> int:
        return self.x.size

    def content(self, take: str, mic_id: str) -> str:
        return "noise"


class TestGains:
    """What is drawn over the song."""

    def test_like_the_plain_loop(self):
        """Sample by sample in double precision, with overlapping fades."""
        mine = Regions(on=True, spans=SPANS, down_db=17.0, lead_ms=4.0, fade_in_ms=3.0, fade_out_ms=120.0)
        plain = regions.oracle(np.ones(96_000), mine, RATE)
        assert np.max(np.abs(gain_of(mine) - plain)) < 2e-7

    def test_inside_nothing_is_touched(self):
        """From the lead on to the end of the ring the gain is one, to the last bit."""
        mine = Regions(on=True, spans=SPANS, lead_ms=3.0)
        out = gain_of(mine)
        for start, stop in SPANS:
            assert np.all(out[start - round(0.003 * RATE) : stop] == 1.0)

    @pytest.mark.parametrize(("down_db", "left"), [(6.0, 10 ** (-6 / 20)), (24.0, 10 ** (-24 / 20)), (90.0, 0.0)])
    def test_between_it_is_down_by_what_is_set(self, down_db: float, left: float):
        """And silent at the end of the range."""
        out = gain_of(Regions(on=True, spans=SPANS, down_db=down_db))
        assert np.allclose(out[50_000:60_000], left, atol=1e-7)

    @pytest.mark.parametrize("down_db", [6.0, 24.0, 90.0])
    def test_no_step_is_faster_than_the_fades(self, down_db):
        """On the way up a cubic fade, at most 1.5 times as steep as a straight one; on the way down so many dB each ms, as a drum falls."""
        mine = Regions(on=True, spans=SPANS, down_db=down_db, fade_in_ms=2.0, fade_out_ms=200.0)
        out = gain_of(mine).astype(float)
        assert np.diff(out).max() <= 1.5 / (0.002 * RATE) + 1e-6
        falls_db = -np.diff(20 * np.log10(out[30_000 : 30_000 + round(0.19 * RATE)]))
        assert falls_db == pytest.approx(down_db / (0.2 * RATE), abs=1e-4)

    def test_any_part_is_the_whole_there(self):
        """Where one begins to look changes nothing."""
        mine, rng = Regions(on=True, spans=SPANS, fade_out_ms=900.0), np.random.default_rng(8)
        whole = gain_of(mine)
        for start, length in zip(rng.integers(0, 90_000, 40), rng.integers(1, 6_000, 40), strict=True):
            assert np.array_equal(gain_of(mine, start, start + length), whole[start : start + length])

    @pytest.mark.parametrize(
        "floors", [((9_000, 6.0),), ((21_000, 90.0), (70_000, 0.0)), ((9_000, 3.0), (21_000, 40.0))]
    )
    def test_a_floor_of_its_own(self, floors):
        """After a region the mic is down by what is set there, up to the next; elsewhere as everywhere. Like the plain loop, and in parts."""
        mine = Regions(
            on=True, spans=SPANS, down_db=17.0, lead_ms=4.0, fade_in_ms=3.0, fade_out_ms=120.0, floors=floors
        )
        whole, plain = gain_of(mine), regions.oracle(np.ones(96_000), mine, RATE)
        assert np.max(np.abs(whole - plain)) < 2e-7
        own = dict(floors).get(21_000, 17.0)
        assert whole[60_000] == pytest.approx(0.0 if own == 90.0 else 10 ** (-own / 20), abs=1e-6)
        for start, length in ((19_000, 3_000), (30_100, 50), (40_000, 29_900), (69_700, 2_000)):
            assert np.array_equal(gain_of(mine, start, start + length), whole[start : start + length])

    def test_a_floor_like_the_others(self):
        """Changes nothing."""
        mine = Regions(on=True, spans=SPANS, down_db=17.0)
        own = mine.replace(floors=tuple((start, 17.0) for start, _ in SPANS))
        assert np.abs(gain_of(own) - gain_of(mine)).max() < 2e-7

    def test_thousands_cost_what_is_near(self):
        """Of 10 000 regions those that are heard are looked at: the result is that of those alone."""
        spans = tuple((k * 5_000, k * 5_000 + 900) for k in range(10_000))
        near = gain_of(Regions(on=True, spans=spans), 25_000_000, 25_100_000)
        few = gain_of(Regions(on=True, spans=spans[4_900:5_100]), 25_000_000, 25_100_000)
        assert np.array_equal(near, few)


class TestRendered:
    """In a mic's row."""

    def test_they_go_where_their_hits_go(self):
        """A region follows cuts and the mic's delay as its sound does: inside, the very samples of the mic without it."""
        mic = MicPlan(id="tom", name="Tom", piece="tom1", role="close", line_up=LineUp(delay_ms=7.3))
        plan = Plan(take="t", mics=(mic,), cuts=(Cut(at=15_000, shift=400), Cut(at=40_000, shift=-700)))
        cut = plan.replace(mics=(mic.replace(tools=(Regions(on=True, spans=SPANS, down_db=90.0),)),))
        span = (0, 90_000)
        bare, heard = (render(each, Noise(), span, "strip:tom") for each in (plan, cut))
        later = round(0.0073 * RATE)
        for start, stop, shift in ((9_000, 15_000, 0), (21_000, 30_000, 400), (70_000, 70_400, -700)):
            part = slice(start + shift + later, stop + shift + later)
            assert np.array_equal(heard[part], bare[part])
            assert np.any(bare[part])
        assert not heard[35_000:66_000].any()

    def test_a_print_is_what_is_heard(self):
        """From start to end, and by span, the same."""
        mic = MicPlan(id="tom", name="Tom", piece="tom1", role="close", tools=(Regions(on=True, spans=SPANS),))
        plan = Plan(take="t", mics=(mic,))
        from concurrent.futures import ThreadPoolExecutor

        with ThreadPoolExecutor(2) as pool:
            printed = np.concatenate([block.banks[-1][:, 0] for block in Stream(plan, Noise()).blocks(pool)])
        heard = render(plan, Noise(), (30_000, 50_000))[:, 0]
        assert np.max(np.abs(printed[30_000:50_000] - heard)) < 1e-7


class TestBadInput:
    """What is no region is refused, with its place."""

    @pytest.mark.parametrize(
        ("spans", "words"),
        [
            (((500, 400),), "region 1 ends at sample 400"),
            (((100, 400), (300, 900)), "region 2 begins at sample 300, inside"),
            (tuple((10 * k, 10 * k + 5) for k in range(MOST_SPANS + 1)), "at most 20,000"),
        ],
    )
    def test_sentences(self, spans: tuple, words: str):
        """Which one, and why."""
        with pytest.raises(SettingsError, match=words):
            Regions(spans=spans)

    def test_floors(self):
        """One for a region, within the range."""
        with pytest.raises(SettingsError, match="outside 0 to 90"):
            Regions(spans=SPANS, floors=((9_000, 91.0),))
        with pytest.raises(SettingsError, match="one for each region"):
            Regions(spans=SPANS, floors=((9_000, 3.0), (9_000, 6.0)))

    def test_not_in_a_group(self):
        """A group has no hits of its own."""
        plan = Plan()
        with pytest.raises(SettingsError, match=r"groups\.kick\.tools\.regions.*belongs to a mic"):
            plan.replace(groups=(plan.groups[0].replace(tools=(Regions(),)), *plan.groups[1:]))

    def test_a_template_leaves_them_behind(self):
        """Places of one song mean nothing in another."""
        from arkund.core.plan.template import template_of

        mic = MicPlan(id="tom", name="Tom", piece="tom1", role="close", tools=(Regions(on=True, spans=SPANS),))
        tools = template_of(Plan(mics=(mic,)))["mics"]["tom1 close"]["tools"]
        assert tools[0]["spans"] == []
        assert tools[0]["down_db"] == 24.0


class TestSooner:
    """A drum made shorter."""

    def test_ends_before_its_ring(self):
        """Each region ends so much earlier, but never within its first 60 ms; what is left of it is untouched."""
        spans = ((10_000, 40_000), (60_000, 64_000), (90_000, 92_000))
        tool = Regions(on=True, spans=spans, down_db=24.0, lead_ms=0.0, fade_out_ms=1.0)
        moved = lambda rows: np.array(rows, np.int64)
        open_ = regions.gains(tool.replace(sooner_ms=250.0), moved, 0, 100_000, RATE) == 1.0
        assert open_[10_000:28_000].all()
        assert not open_[28_100:39_000].any()
        assert open_[60_000:62_880].all()
        assert not open_[62_990:63_900].any()
        assert open_[90_000:92_000].all()

    def test_nothing_set(self):
        """Is what it was."""
        tool, moved = Regions(on=True, spans=((10_000, 40_000),)), lambda rows: np.array(rows, np.int64)
        assert np.array_equal(
            regions.gains(tool, moved, 0, 60_000, RATE),
            regions.gains(tool.replace(sooner_ms=0.0), moved, 0, 60_000, RATE),
        )
