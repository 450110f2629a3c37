"""Levers: what each sets, and how far it may go."""

import pytest

from arkund.core.autokit.advice import held, served, title
from arkund.core.autokit.levers import BOUNDS, MOST_CLIPPED, OWN_TOOLS, levers_of, put
from arkund.core.autokit.objective import Goal, Objective
from arkund.core.autokit.solver import solve
from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ, octave_key
from arkund.core.card.targets import GAINS, SCHOOLS
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.rig import usual

MICS = (("kd-in", "kick", "in"), ("kd-out", "kick", "out"), ("sn", "snare", "top"), ("oh-l", "kit", "overhead"))
PLAN = Plan(
    take="t",
    mics=tuple(MicPlan(id=name, name=name, piece=piece, role=role) for name, piece, role in MICS),
    paths=(usual.sustain(level_db=-14.0),),
)


class Peaks:
    """Peaks that do not hang on the Plan: hits at -10 dBFS, the path 20 dB under the kit."""

    highest_db = -10.0

    def of(self, plan, output):
        return -26.0 if output.startswith("path:") else -6.0

    def loudest_hits(self, plan, strip):
        return -10.0, self.highest_db

    def octaves_off(self, plan):
        return {hz: (4.5 if hz < 1000.0 else -4.5) for hz in SLOPE_HZ} | {1000.0: 2.5}


def by_key(style: str = "punchy", plan: Plan = PLAN) -> dict:
    return {each.lever.key: each for each in levers_of(plan, style, Peaks())}


class TestLevers:
    """A row each."""

    @pytest.mark.parametrize("style", SCHOOLS)
    def test_each_sets_what_it_says(self, style):
        """Put at both its ends and read again it stands there; at its start the Plan is the same."""
        for key, means in by_key(style).items():
            lever = means.lever
            assert lever.low <= lever.start <= lever.high, key
            assert means.value(PLAN) == pytest.approx(lever.start), key
            for value in {lever.low, lever.high} - {lever.start}:
                there = put(PLAN, [means], {key: value})
                assert means.value(there) == pytest.approx(value, abs=0.06), key
                assert there != PLAN
                assert f"{value - lever.start:+.1f} dB" in means.deed(value, lever.start) or key.endswith(".clip")
        assert put(PLAN, list(by_key(style).values()), {}) == PLAN

    def test_one_way_only(self):
        """Beater, crack and air are never dulled; over the kit an octave is only brought nearer to the slope, one that lies near it is left alone."""
        rows = by_key()
        for key in ("group:kick.colour.beater", "group:snare.colour.crack", "group:overheads.colour.air"):
            assert (rows[key].lever.low, rows[key].lever.high) == (0.0, BOUNDS["punchy"].lift)
        assert rows["group:snare.colour.body"].lever.low == -BOUNDS["punchy"].cut
        assert "kit.even.1000" not in rows
        assert (rows["kit.even.250"].lever.low, rows["kit.even.250"].lever.high) == (-2.0, 0.0)
        assert (rows["kit.even.4000"].lever.low, rows["kit.even.4000"].lever.high) == (0.0, 2.0)

    def test_each_serves_figures_that_there_are(self):
        """By their keys; none serves nothing."""
        known = {each.figure.key for each in (*GAINS, *COSTS)} | {octave_key(hz) for hz in SLOPE_HZ}
        for key, means in by_key("heavy").items():
            assert means.lever.serves, key
            assert means.lever.serves <= known, key

    def test_all_at_once(self):
        """Levers at one strip do not undo each other."""
        rows = by_key()
        ends = {key: (means.lever.low, means.lever.high) for key, means in rows.items()}
        values = {key: high if high != rows[key].lever.start else low for key, (low, high) in ends.items()}
        there = put(PLAN, list(rows.values()), values)
        for key, means in rows.items():
            assert means.value(there) == pytest.approx(values[key], abs=0.06), key
        used = {tool.id for strip in (*there.groups, there.kit) for tool in strip.tools if tool.on}
        assert used == set(OWN_TOOLS)

    def test_bounds(self):
        """Those of the style; a path's peak stays as far under the kit's as it is meant to."""
        for style in SCHOOLS:
            rows, bounds = by_key(style), BOUNDS[style]
            assert rows["groups.kick.level_db"].lever.high == bounds.fader
            assert rows["group:snare.shape.attack_db"].lever.high == bounds.shaper
            assert rows["group:kick.clip"].lever.high == MOST_CLIPPED[style][1]
            assert rows["paths.sustain.level_db"].lever.high == min(
                -14.0 + 20.0 - bounds.path_under, -14.0 + bounds.fader
            )

    def test_no_two_ways_to_one_balance(self):
        """Of a drum's mics all but the main one have a fader: the group's moves that one, and nothing is moved against it in vain."""
        mics = {key for key in by_key() if key.startswith("mics.")}
        assert mics == {"mics.kd-out.level_db"}

    def test_no_lever_of_what_is_not_heard(self):
        """A muted group, a mic alone in its drum, a path that is off."""
        mics = tuple(mic.replace(mute=mic.piece == "kick") for mic in PLAN.mics)
        rows = by_key(plan=PLAN.replace(mics=mics, paths=(PLAN.paths[0].replace(mute=True),)))
        assert not any("kick" in key or key.startswith(("paths.", "mics.")) for key in rows)

    def test_nothing_natural_clips_the_kit(self):
        """Only single drums' loudest hits, and those by a decibel."""
        assert "kit.clip" not in by_key("natural")
        assert by_key("natural")["group:snare.clip"].lever.high == 1.0

    def test_a_single_peak(self):
        """A clipper reaches down from the highest peak, and as far into the loudest tenth of the hits as it may."""
        peaks = Peaks()
        peaks.highest_db = -7.5
        means = {each.lever.key: each for each in levers_of(PLAN, "punchy", peaks)}["kit.clip"]
        assert means.lever.high == MOST_CLIPPED["punchy"][1] + 2.5
        tool = put(PLAN, [means], {"kit.clip": 0.1}).kit.tools[-1]
        assert tool.drive_db == 7.6
        assert means.value(put(PLAN, [means], {"kit.clip": 0.1})) == pytest.approx(0.1)

    def test_a_clipper_follows_what_comes_in(self):
        """As deep in the hits, however loud they come."""
        means = by_key()["group:kick.clip"]
        tool = put(PLAN, [means], {means.lever.key: 2.0}).groups[0].tools[-1]
        assert (tool.kind, tool.shape, tool.drive_db) == ("grit", "hard", 12.0)


class TestAdvice:
    """What a solution tells."""

    @property
    def means(self) -> list:
        return list(by_key().values())

    def solution(self, low: float):
        rows = (Goal("attack_kick", low, 20.0), Goal("kick", -3.0, 3.0))
        key = "group:kick.shape.attack_db"
        levers = [each.lever for each in self.means if each.lever.key in (key, "groups.kick.level_db")]
        return solve(
            levers, Objective(rows), lambda v: {"attack_kick": v[key] - 1.0, "kick": v["groups.kick.level_db"]}
        )

    def test_what_a_deed_serves(self):
        """The figure that it brings into its range, from where and to where."""
        found = self.solution(1.0)
        mine = [each for each in self.means if each.lever.key in found.moved]
        deeds = [each.deed(found.moved[each.lever.key], 0.0) for each in mine]
        assert title(mine[0].strip, deeds) == "Kick: attack +2.1 dB"
        assert served(mine, found) == "For attack to body: kick -1.0 → +1.1 dB (target 1 to 20)."
        assert held(self.means, found) == []

    def test_what_it_would_cost(self):
        """Where a lever is free, the figure that moving it on would push out of its range."""
        means = [
            each for each in self.means if each.lever.key in ("group:kick.shape.attack_db", "groups.kick.level_db")
        ]
        goals = Goal("attack_kick", 4.0, 20.0), Goal("density", -4.0, -0.5, weight=3.0)
        both = lambda v: {
            "attack_kick": v["group:kick.shape.attack_db"],
            "density": 0.9 * v["group:kick.shape.attack_db"] - 1.4,
        }
        found = solve([each.lever for each in means], Objective(goals), both)
        (words,) = held(means, found)
        assert words == (
            "Attack to body: kick +0.9 dB, target 4 to 20: more of Kick: attack would take peak-to-loudness ratio (PLR) out of its range."
        )

    def test_missed_in_the_calmest_part(self):
        """Where the busiest part holds the range and the calmest cannot, its figure is told."""
        means = [each for each in self.means if each.lever.key == "groups.kick.level_db"]
        goals = (Goal("kick", -3.0, 3.0, calm_by=5.0),)
        louder = lambda v: {"kick": v["groups.kick.level_db"] + 4.2}
        found = solve([each.lever for each in means], Objective(goals), louder)
        assert held(means, found)[0].startswith("Kick against snare 3.2 dB in the calmest part, target within 3: ")

    def test_what_holds_it(self):
        """The bound that stands in the way."""
        (words,) = held(self.means, self.solution(9.0))
        assert words == "Attack to body: kick +3.0 dB, target 9 to 20: limited by Kick: attack +4.0 dB."
