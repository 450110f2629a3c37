"""Cuts from played hits: where strokes come to lie, and what stays."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import resolve
from arkund.core.hits.settings import HitSettings
from arkund.core.lineup.measure import measure as arrivals
from arkund.core.plan.plan import Plan, Tempo
from arkund.core.render.source import Sources
from arkund.core.timing.measure import Deviation, deviations
from arkund.core.timing.process import Edited, moved_sample
from arkund.core.timing.quantise import move_stroke, quantise
from arkund.core.timing.settings import QuantiseSettings
from arkund.core.timing.strokes import strokes
from tests.core.timing.playing import hit
from tests.kits import small_kit

RATE = 48_000


noise = ArrayMic(np.random.default_rng(7).normal(0, 0.1, 20 * RATE)).read


def uneven_hits():
    """Eighths with a spread of 8 ms at 120 BPM, one piece at a time."""
    rng = np.random.default_rng(3)
    out = {"kick": [], "snare": [], "hihat": []}
    for i in range(64):
        piece = ("kick", "hihat", "snare", "hihat")[i % 4]
        out[piece].append(hit(piece, 0.02 + i * 0.25 + float(rng.normal(0, 0.008))))
    return out


def pulled(hits, cuts=(), **settings):
    plan = Plan(tempo=Tempo(bpm=120.0), cuts=tuple(cuts))
    given = {"first_bar": 0, "last_bar": 7, "grid": 8, "method": "slices"} | settings
    return quantise(hits, plan, QuantiseSettings(**given), RATE, noise)


def off_ms(hits, cuts, step=0.25):
    """Return each hit's distance from the grid after cuts, by piece and time."""
    out = {}
    for mine in hits.values():
        for h in mine:
            at = moved_sample(cuts, round(h.time_s * RATE)) / RATE
            out[h.piece, round(h.time_s, 4)] = (at - round(at / step) * step) * 1000
    return out


class TestTargets:
    """Where strokes are sent."""

    @pytest.mark.parametrize("method", ["slices", "stretch", "auto"])
    @pytest.mark.parametrize("strength", [50.0, 100.0])
    def test_by_the_strength(self, strength, method):
        """At 100 % they stand on the grid to the sample, whatever fills the gaps."""
        hits = uneven_hits()
        before, after = off_ms(hits, ()), off_ms(hits, pulled(hits, strength=strength, method=method).cuts)
        for key, off in before.items():
            assert after[key] == pytest.approx(off * (1 - strength / 100), abs=0.05)

    def test_tolerance_and_reach(self):
        """What is near enough and what is meant otherwise stay where they are."""
        hits = uneven_hits()
        made = pulled(hits, tolerance_ms=6.0, most_ms=12.0)
        before, after = off_ms(hits, ()), off_ms(hits, made.cuts)
        for key, off in before.items():
            assert after[key] == pytest.approx(0.0 if 6.0 <= abs(off) <= 12.0 else off, abs=0.05)
        assert made.left == sum(not 6.0 <= abs(off) <= 12.0 for off in before.values())

    def test_nothing_outside_the_bars_moves(self):
        """Bars 3 and 4 only: all other hits stay to the sample."""
        hits = uneven_hits()
        cuts = pulled(hits, first_bar=2, last_bar=3).cuts
        for mine in hits.values():
            for h in mine:
                at = round(h.time_s * RATE)
                if not 4.0 - 0.06 <= h.time_s < 8.0 - 0.06:
                    assert moved_sample(cuts, at) == at

    def test_twice_is_once(self):
        """Pulling the same bars again replaces the earlier cuts."""
        hits = uneven_hits()
        once = pulled(hits, first_bar=1, last_bar=4)
        assert pulled(hits, once.cuts, first_bar=1, last_bar=4).cuts == once.cuts

    def test_neighbouring_ranges_join(self):
        """Two ranges one after the other give what both together give, at every hit."""
        hits = uneven_hits()
        both = pulled(hits, pulled(hits, first_bar=0, last_bar=3).cuts, first_bar=4, last_bar=7)
        assert off_ms(hits, both.cuts) == pytest.approx(off_ms(hits, pulled(hits).cuts), abs=0.05)

    def test_only_some_pieces(self):
        """Strokes without them stay."""
        hits = uneven_hits()
        after = off_ms(hits, pulled(hits, pieces=("snare",)).cuts)
        for (piece, at), off in off_ms(hits, ()).items():
            assert after[piece, at] == pytest.approx(0.0 if piece == "snare" else off, abs=0.05)

    def test_groove(self):
        """The feel of bars 1 and 2 becomes the target: off-beats there lie 14 ms late."""
        late = {"hihat": [hit("hihat", k * 0.25 + (0.014 if k % 2 else 0.0) * (k < 16)) for k in range(64)]}
        after = off_ms(late, pulled(late, first_bar=2, groove_first=0, groove_last=1).cuts)
        later = [off for (_, at), off in sorted(after.items(), key=lambda row: row[0][1]) if at >= 4.0]
        assert later[:8] == pytest.approx([0.0, 14.0] * 4, abs=0.1)

    def test_triplets_as_meant(self):
        """A bar of triplets between straight ones goes to its own grid."""
        rng = np.random.default_rng(5)
        times = [bar * 2.0 + beat * 0.5 + part * 0.5 for bar in range(8) for beat in range(4)
                 for part in ((0, 1 / 3, 2 / 3) if bar == 3 else (0, 0.25, 0.5, 0.75))]  # fmt: skip
        hits = {"hihat": [hit("hihat", at + abs(float(rng.normal(0, 0.004)))) for at in times]}
        made = pulled(hits, grid=0)
        heard = [moved_sample(made.cuts, round(h.time_s * RATE)) / RATE for h in hits["hihat"]]
        assert heard == pytest.approx(times, abs=1e-4)

    def test_no_hits(self):
        """Make no cuts."""
        assert pulled({}).cuts == ()
        assert pulled({"kick": []}).moved == 0

    def test_a_hit_at_the_very_start(self):
        """Is moved as far as there is sound."""
        made = pulled({"kick": [hit("kick", 0.001), hit("kick", 0.51)]})
        assert moved_sample(made.cuts, round(0.51 * RATE)) == round(0.5 * RATE)


class TestApart:
    """Strokes that were meant together."""

    def apart(self):
        return {"snare": [hit("snare", k + 0.512) for k in range(8)], "kick": [hit("kick", k + 0.5) for k in range(8)]}

    def test_together_they_move_with_the_snare(self):
        """The kick stays 12 ms early."""
        after = off_ms(self.apart(), pulled(self.apart()).cuts)
        for (piece, _), off in after.items():
            assert off == pytest.approx(0.0 if piece == "snare" else -12.0, abs=0.05)

    def test_the_kick_alone(self):
        """Its own mics bring it onto the snare; counted."""
        made = pulled(self.apart(), kick_alone=True)
        assert made.alone == 8
        for h in self.apart()["kick"]:
            at = moved_sample(made.lone_cuts, round(h.time_s * RATE))
            assert moved_sample(made.cuts, at) / RATE == pytest.approx(round(h.time_s * 2) / 2, abs=1e-4)

    def test_other_bars_keep_their_kicks(self):
        """Bars done one after the other give what all at once give; a bar done again without it gets its kicks back."""
        all_at_once = pulled(self.apart(), kick_alone=True).lone_cuts
        plan = Plan(tempo=Tempo(bpm=120.0))
        for bar in range(4):
            settings = QuantiseSettings(first_bar=bar, last_bar=bar, grid=8, kick_alone=True, method="slices")
            plan = plan.replace(lone_cuts=quantise(self.apart(), plan, settings, RATE, noise).lone_cuts)
        assert plan.lone_cuts == all_at_once
        settings = QuantiseSettings(first_bar=1, last_bar=1, grid=8)
        assert len(quantise(self.apart(), plan, settings, RATE, noise).lone_cuts) == len(all_at_once) - 4

    def test_cymbal_and_snare_share_the_error(self):
        """Half of it on each side."""
        hits = {"snare": [hit("snare", k + 0.49) for k in range(8)], "ride": [hit("ride", k + 0.51) for k in range(8)]}
        made = pulled(hits, split_cymbals=True)
        assert made.split == 8
        for (piece, _), off in off_ms(hits, made.cuts).items():
            assert off == pytest.approx(-10.0 if piece == "snare" else 10.0, abs=0.05)


class TestLead:
    """Which hit of a stroke is heard as the beat."""

    @pytest.mark.parametrize(("sure", "leads"), [(0.95, "snare"), (0.5, "kick")])
    def test_an_unsure_snare_does_not_lead(self, sure, leads):
        """A snare leads a kick, unless the finder is unsure of it."""
        rows = [
            Deviation("snare", 1.0, 0, 2.0, 2.0, 0.0, False, -20.0, sure),
            Deviation("kick", 1.02, 0, 2.04, 2.0, 20.0, False, -8.0),
        ]
        (stroke,) = strokes(rows)
        assert stroke.lead.piece == leads


class TestMoveStroke:
    """One stroke by hand."""

    def test_the_others_stay(self):
        """By 7 ms later, then 3 back from there."""
        hits, plan = uneven_hits(), Plan(tempo=Tempo(bpm=120.0))
        one = hits["snare"][3]
        cuts = move_stroke(hits, plan, one.time_s, 7.0, RATE, noise).cuts
        cuts = move_stroke(hits, plan.replace(cuts=cuts), one.time_s, -3.0, RATE, noise).cuts
        for mine in hits.values():
            for h in mine:
                moved = moved_sample(cuts, round(h.time_s * RATE)) - round(h.time_s * RATE)
                assert moved == pytest.approx(0.004 * RATE if h is one else 0, abs=1)


@pytest.mark.parametrize(("seed", "style", "rate", "method"), [
    (811, "straight", 48_000, "auto"), (812, "busy", 44_100, "auto"),
    (813, "slow", 96_000, "stretch"), (814, "sixeight", 48_000, "slices"),
])  # fmt: skip
class TestOnKits:
    """Generated kits, quantised by the hits that were found in them."""

    @pytest.mark.long
    def test_found_again_on_the_grid(self, seed, style, rate, method):
        """95 % of the strokes within 0.5 ms; delays between mics unchanged; nothing after the last bar moved, to the sample."""
        kit = small_kit(seed=seed, style=style, bpm=66.0 if style == "sixeight" else 112.0, bars=8, rate=rate)
        plan, names = kit.plan, [mic.id for mic in kit.plan.mics]

        def found(readers):
            rows = find_hits([readers[n] for n in names], kit.channels, rate, HitSettings())
            return resolve({p: [[h.time_s, h.level_db, h.sure] for h in mine] for p, mine in rows.items()}, ())

        def total(start, stop):
            return np.sum([kit.readers[n].read(start, stop) for n in names], axis=0)

        hits = found(kit.readers)
        made = quantise(hits, plan, QuantiseSettings(first_bar=0, last_bar=6, method=method), rate, total)
        edited = Edited(made.cuts, plan.crossfade_ms, rate)
        new = {n: ArrayMic(edited.read(kit.readers[n].read, 0, kit.samples)) for n in names}
        again = found(new)
        off = [abs(s.lead.off_ms) for s in strokes(deviations(again, plan.tempo, 16)) if 0 <= s.lead.bar <= 6]
        assert np.quantile(off, 0.95) <= 0.5
        assert np.median(off) <= 0.1
        end = made.cuts[-1].at
        assert made.cuts[-1].shift == 0
        for n in names:
            assert np.array_equal(new[n].read(end, kit.samples), kit.readers[n].read(end, kit.samples))

        class After:
            sample_rate_hz = rate

            def mic(self, take, mic_id):
                return new[mic_id]

        moved = {
            p: [hit(p, moved_sample(made.cuts, round(h.time_s * rate)) / rate, h.ghost) for h in m]
            for p, m in hits.items()
        }
        before = {a.mic: a.delay_ms for a in arrivals(plan, kit, hits) if a.sure}
        after = {a.mic: a.delay_ms for a in arrivals(plan, After(), moved) if a.sure}
        for mic in before.keys() & after.keys():
            assert after[mic] == pytest.approx(before[mic], abs=0.02)
        assert len(before.keys() & after.keys()) >= 4


class TestSources:
    """Cuts in the signal path."""

    def test_lone_cuts_move_the_kicks_own_mics_only(self):
        """The others are what they were, to the sample."""
        kit = small_kit(seed=815, style="straight", bpm=120.0, bars=2)
        hits = {"kick": kit.hits["kick"][:1], "snare": [hit("snare", kit.hits["kick"][0].time_s + 0.015)]}
        made = quantise(hits, kit.plan, QuantiseSettings(first_bar=0, last_bar=1, kick_alone=True, tolerance_ms=50.0), RATE,
                        lambda a, b: kit.readers["OH L"].read(a, b))  # fmt: skip
        plain, moved = (Sources(kit.plan.replace(lone_cuts=cuts), kit) for cuts in ((), made.lone_cuts))
        assert made.lone_cuts
        at = round(hits["kick"][0].time_s * RATE)
        for mic in kit.plan.mics:
            a, b = plain.read(mic, at, at + 2000), moved.read(mic, at, at + 2000)
            if mic.piece == "kick" and mic.role in ("in", "out", "sub"):
                later = made.lone_cuts[0].shift
                assert np.array_equal(a[:1000], b[later : later + 1000])
            else:
                assert np.array_equal(a, b)
