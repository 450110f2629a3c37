"""Corrections of a kit: in the direction of what misses, by how much it does, and nothing for what is where it is meant to be."""

import numpy as np
import pytest

from arkund.core.card import levers
from arkund.core.card.shares import Shares
from arkund.core.card.targets import FIGURES, INF, INSIDE_DB, SCHOOLS, TARGETS, beyond, further_by, off_altogether
from arkund.core.dsp.spectrum import OCTAVES_HZ
from arkund.core.plan import change
from arkund.core.plan.plan import Group, MicPlan, Plan
from arkund.core.rig import usual
from arkund.core.tools.grit import Grit
from arkund.core.tools.shaper import Shaper

KEYS = [figure.key for figure in FIGURES]
PLAN = Plan(
    take="t",
    mics=(
        MicPlan(id="in", name="in", piece="kick", role="in", tools=(Shaper(id="shaper", on=True, attack_db=2.0),)),
        MicPlan(id="hat", name="hat", piece="hihat", role="spot"),
        MicPlan(id="oh", name="oh", piece="kit", role="overhead"),
    ),
    groups=tuple(Group(id=each, name=each, level_db=-6.0) for each in ("kick", "cymbals", "overheads")),
    paths=(usual.sustain(level_db=-10.0),),
    kit=usual.kit(),
)


def middle(school: str) -> dict[str, float]:
    """Return figures that lie well within all targets."""
    out = {}
    for key, (low, high) in TARGETS[school].items():
        out[key] = high - 5.0 if low == -INF else low + 5.0 if high == INF else (low + high) / 2.0
    return out


class TestMisses:
    """What is corrected."""

    @pytest.mark.parametrize("school", SCHOOLS)
    def test_within(self, school):
        """Nothing is, of a kit that is where it is meant to be, and it misses nothing altogether."""
        raw = dict.fromkeys(KEYS, 0.0)
        assert levers.misses(middle(school), raw, school) == {}
        assert off_altogether(middle(school), raw, school) == 0.0

    def test_grows_evenly(self):
        """From within its target to beyond, what it is corrected by and what it counts grow without a step: kits that differ by little end alike."""
        raw, school = dict.fromkeys(KEYS, 0.0), "punchy"
        values = np.arange(12.0, 17.0, 0.01)
        by = np.array([beyond("density", value, school) for value in values])
        off = np.array([off_altogether(middle(school) | {"density": value}, raw, school) for value in values])
        assert np.abs(np.diff(by)).max() < 0.02
        assert np.abs(np.diff(off)).max() < 0.08
        assert by[values < 12.0 + INSIDE_DB - 0.01].max() < 0.0
        assert by[-1] == pytest.approx(values[-1] - (15.0 - INSIDE_DB))
        assert np.all(np.diff(off[values > 15.0 - INSIDE_DB]) > 0.0)

    @pytest.mark.parametrize(
        ("key", "raw", "now", "further"),
        [
            ("contrast", 7.0, 7.5, 0.0),  # half a dB up where one is wanted: nearer than none
            ("contrast", 7.0, 6.4, 0.6),
            ("toms", 2.0, 1.5, 0.0),
            ("toms", 2.0, -5.0, 1.0),  # two below -3, where it was one above 1
            ("toms", None, -5.0, 0.0),
        ],
    )
    def test_further_than_raw(self, key, raw, now, further):
        """Of a change against none; of other figures against what the raw kit has. It counts beside what is missed."""
        figures, before = middle("punchy"), dict.fromkeys(KEYS, 0.0)
        found = further_by(key, figures | {key: now}, before | {key: raw}, TARGETS["punchy"][key])
        assert found == pytest.approx(further)
        if further:
            near = off_altogether(figures | {key: now}, before | {key: now}, "punchy") if key == "toms" else 0.0
            assert off_altogether(figures | {key: now}, before | {key: raw}, "punchy") > near

    def test_unknown(self):
        """A figure that the playing does not tell is not corrected."""
        figures = middle("punchy") | {"toms": None}
        assert "toms" not in levers.misses(figures, dict.fromkeys(KEYS, 0.0), "punchy")


class TestShares:
    """How much at a time."""

    def test_too_far(self):
        """All of it at first, half of it once the sign has turned, more again after that; figures do not hang on each other."""
        shares = Shares()
        assert shares.of({"a": 4.0, "b": 1.0}) == {"a": 4.0, "b": 1.0}
        assert shares.of({"a": -2.0, "b": 0.2}) == {"a": -1.0, "b": 0.2}
        assert shares.of({"a": -1.0}) == {"a": pytest.approx(-0.65)}

    def test_too_slow(self):
        """More than all of it where little came of that, and never more than MOST; it brings a figure nearer that gives a third of what is asked."""
        shares, left, asked = Shares(), 4.0, []
        for _ in range(6):
            asked.append(shares.of({"a": left})["a"] / left)
            left -= asked[-1] * left / 3.0
        assert asked == pytest.approx([1.0, *[1.5] * 5])
        assert left == pytest.approx(4.0 * (2.0 / 3.0) * 0.5**5)

    def test_given_up(self):
        """What swings to and fro is left after a few rounds."""
        shares = Shares()
        told = [shares.of({"a": (-1.0) ** k}) for k in range(6)]
        assert told[-1] == {}


class TestLevers:
    """Each moves what it names."""

    @pytest.mark.parametrize(("over_db", "more"), [(2.0, True), (-2.0, False)])
    def test_density(self, over_db, more):
        """More drive where peaks stand too far over the rest, less where not far enough; the first of it only lets the peaks reach the curve."""
        first = levers.density(PLAN, 2.0, "punchy", -7.0)
        plan = change.put(PLAN, first.values)
        drive = plan.kit.tool(levers.DENSE).drive_db
        assert drive == pytest.approx(7.0 + 2.0 / levers.SLOPE, abs=0.06)
        again = change.put(plan, levers.density(plan, over_db, "punchy", -7.0).values)
        now = again.kit.tool(levers.DENSE).drive_db
        assert (now > drive) == more

    def test_headroom(self):
        """The level at which it is left, and nothing else of the figures; silence keeps its level."""
        plan, figures = levers.at_headroom(PLAN, {"headroom": -2.5, "density": 14.0})
        assert plan.kit.level_db == -3.5
        assert figures == {"headroom": -6.0, "density": 14.0}
        assert levers.at_headroom(PLAN, {"headroom": None}) == (PLAN, {"headroom": None})

    def test_level(self):
        """A group by so much; none where it is not there, or where nothing of it is heard."""
        assert levers.level(PLAN, "kick", 1.5, "kick").values == {"groups.kick.level_db": -4.5}
        assert levers.level(PLAN, "toms", 1.5, "toms") is None
        silent = change.put(PLAN, {"mics.in.mute": True})
        assert levers.level(silent, "kick", 1.5, "kick") is None

    def test_cymbals(self):
        """Spots by all of it, overheads by less, and not up where hits do not stand out; where spots are at their end, their group."""
        values = levers.cymbals(PLAN, -2.0).values
        assert values["mics.hat.level_db"] == pytest.approx(-2.0)
        assert -8.0 < values["groups.overheads.level_db"] < -6.0
        assert -6.0 < levers.cymbals(PLAN, 2.0).values["groups.overheads.level_db"] < -5.0
        assert levers.cymbals(PLAN, 2.0, short_db=1.0).values["groups.overheads.level_db"] == -6.0
        loud = change.put(PLAN, {"mics.hat.level_db": 11.0})
        values = levers.cymbals(loud, 4.0).values
        assert (values["mics.hat.level_db"], values["groups.cymbals.level_db"]) == (12.0, -3.0)

    def test_against_back_beats(self):
        """A drum's group by so much; back-beats rise in place of what would hardly be heard of it, and fall in place of what is lost of its peaks."""
        plan = PLAN.replace(
            mics=(*PLAN.mics, MicPlan(id="top", name="top", piece="snare", role="top")),
            groups=(*PLAN.groups, Group(id="snare", name="snare", level_db=-6.0)),
        )
        assert levers.against_back_beats(plan, "kick", -3.0).values == {"groups.kick.level_db": -9.0}
        assert levers.against_back_beats(plan, "toms", -3.0) is None
        soft = change.put(plan, {"groups.kick.level_db": -16.0})
        values = levers.against_back_beats(soft, "kick", -6.0).values
        assert values == {
            "groups.kick.level_db": levers.HEARD_DB,
            "groups.snare.level_db": -6.0 + 4.0 * levers.BACK_BEATS_SHARE,
        }
        dense = Grit(id=levers.DENSE, on=True, drive_db=18.0).to_json()
        hard = change.put(plan, {"kit.tools": [*(t.to_json() for t in PLAN.kit.tools), dense]})
        values = levers.against_back_beats(hard, "kick", 2.0).values
        assert values == {"groups.kick.level_db": -6.0, "groups.snare.level_db": -6.0 - 2.0 * levers.BACK_BEATS_SHARE}

    def test_even(self):
        """Only octaves that lie further than they may, by what they do."""
        off = np.zeros(len(OCTAVES_HZ))
        off[1], off[6] = 5.0, -3.0
        plan = change.put(PLAN, levers.even(PLAN, OCTAVES_HZ, off, 0.5).values)
        (band,) = plan.kit.tool(levers.EVEN).bands
        assert (band.frequency_hz, band.gain_db) == (125.0, pytest.approx(-0.5))

    @pytest.mark.parametrize("left_db", [2.0, -2.0])
    def test_middle(self, left_db):
        """Overheads towards the side that is softer."""
        (value,) = levers.middle(PLAN, left_db).values.values()
        assert np.sign(value) == np.sign(left_db)
