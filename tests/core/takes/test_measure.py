"""Bars of takes scored, takes aligned, seams measured, and joins proposed, all against what was planted."""

import dataclasses
import itertools

import numpy as np
import pytest
from scipy import signal

from arkund.core.plan.plan import Tempo
from arkund.core.takes.measure import SEAM_S, offset_s, scores, seam
from arkund.core.takes.propose import BEFORE_S, choose, place_join
from arkund.core.takes.settings import CompSettings
from tests.core.timing.playing import hit

RATE = 48_000
TEMPO = Tempo(bpm=120.0, first_bar_s=1.0)


def take(seed, bars=8, late=0.0, spread=0.002, changed=()):
    """A plain beat; ``changed`` are (bar, what): late, missing, doubled, loud."""
    rng, out = np.random.default_rng(seed), {"kick": [], "snare": [], "hihat": []}
    changes = dict(changed)
    for bar in range(bars):
        what = changes.get(bar)
        for k in range(8):
            pieces = ["hihat"] + (["kick"] if k in (0, 4) else ["snare"] if k in (2, 6) else [])
            for piece in pieces:
                if what == "missing" and piece == "snare" and k == 6:
                    continue
                at = 1.0 + late + bar * 2.0 + k * 0.25 + rng.normal(0, spread) + (0.02 if what == "late" else 0.0)
                level = -8.0 + (6.0 if what == "loud" and piece != "hihat" else 0.0)
                out[piece].append(dataclasses.replace(hit(piece, float(at)), level_db=level))
                if what == "doubled" and piece == "kick":
                    out[piece].append(hit(piece, float(at) + 0.03))
    return out


FAULTY = {
    "a": take(11, changed=[(1, "late"), (2, "missing")]),
    "b": take(12, changed=[(3, "doubled"), (4, "loud")]),
    "c": take(13),
}


class TestOffset:
    """How much later a take plays the song."""

    @pytest.mark.parametrize("late", [-0.7, 0.0, 0.3333, 11.25])
    def test_known(self, late):
        """Within 3 ms, by the two backbeats that both takes leave out."""
        assert offset_s(
            take(1, bars=16, changed=[(3, "missing"), (9, "missing")]),
            take(2, bars=16, late=late, changed=[(3, "missing"), (9, "missing")]),
        ) == pytest.approx(late, abs=0.003)

    def test_too_few_hits(self):
        """No answer is no offset."""
        assert offset_s({}, take(1)) == 0.0


class TestScores:
    """What is wrong with a bar lowers it."""

    takes = FAULTY
    found = scores(FAULTY, dict.fromkeys(FAULTY, 0.0), TEMPO)

    @pytest.mark.parametrize(("name", "bar", "figure"), [
        ("a", 1, lambda r: r.offset_ms > 15), ("a", 2, lambda r: r.missing == 1), ("b", 3, lambda r: r.doubled == 2),
        ("b", 4, lambda r: r.level_db > 5),
    ])  # fmt: skip
    def test_each_fault_is_named(self, name, bar, figure):
        """In its own figure, and that bar scores lowest."""
        row = self.found[name][bar]
        assert figure(row)
        assert row.score == min(mine[bar].score for mine in self.found.values())
        assert row.score < min(mine.score for k, mine in enumerate(self.found["c"]) if k < 8) - 4

    def test_a_good_take_is_near_100(self):
        """A spread of 2 ms costs little."""
        assert all(row.score > 90 for row in self.found["c"])

    def test_two_takes_outvote_nobody(self):
        """Nothing is called missing then."""
        two = {name: self.takes[name] for name in ("a", "c")}
        assert all(row.missing == 0 for row in scores(two, dict.fromkeys(two, 0.0), TEMPO)["a"])


class TestChoose:
    """The best bars, with few joins."""

    def best(self, **settings):
        return choose(TestScores.found, "a", CompSettings(**settings))

    def test_faulty_bars_are_avoided(self):
        """All four of them."""
        chosen = self.best(most_joins=20, join_costs=0.0)
        assert all(chosen[bar] != "a" for bar in (1, 2))
        assert all(chosen[bar] != "b" for bar in (3, 4))

    @pytest.mark.parametrize("most", [0, 1, 2])
    def test_at_most_so_many_joins(self, most):
        """Which take the song begins with is none."""
        chosen = self.best(most_joins=most, join_costs=0.0)
        assert sum(x != y for x, y in itertools.pairwise(chosen)) <= most

    @pytest.mark.parametrize("most", [0, 6])
    def test_what_is_chosen_stays(self, most):
        """Whatever it scores, and however many joins it needs; the others are the best beside it."""
        by_hand = {1: "a", 2: "b", 6: "a"}
        chosen = choose(TestScores.found, "a", CompSettings(most_joins=most, join_costs=0.0), by_hand)
        assert all(chosen[bar] == take for bar, take in by_hand.items())
        assert len(chosen) == 8
        if most:
            assert chosen[3] != "b"
            assert chosen[4] != "b"

    def test_is_the_best_of_all(self):
        """Against trying every way over five bars with two joins."""
        rows = {name: mine[:5] for name, mine in TestScores.found.items()}

        def worth(way):
            joins = sum(x != y for x, y in itertools.pairwise(way))
            return (
                -np.inf
                if joins > 2
                else sum(rows[t][k].score + 1e-3 * (t == "a") for k, t in enumerate(way)) - 3.0 * joins
            )

        best = max(itertools.product(rows, repeat=5), key=worth)
        assert worth(tuple(choose(rows, "a", CompSettings(most_joins=2, join_costs=3.0)))) == pytest.approx(worth(best))


class TestPlaceJoin:
    """Just before a stroke of both takes."""

    def test_before_the_earlier_one(self):
        """So that neither is cut nor doubled."""
        a, b = take(21), take(22, late=0.4)
        at = place_join(a, b, TEMPO, 3, 0.4)
        strokes = [h.time_s for h in a["kick"] if abs(h.time_s - 7.0) < 0.1] + [
            h.time_s - 0.4 for h in b["kick"] if abs(h.time_s - 7.4) < 0.1
        ]
        assert at == pytest.approx(min(strokes) - BEFORE_S, abs=1e-9)

    def test_the_next_better_place(self):
        """Is another stroke."""
        a, b = take(21), take(22)
        assert len({round(place_join(a, b, TEMPO, 3, 0.0, k), 3) for k in range(3)}) == 3

    def test_no_shared_stroke(self):
        """Just before the line."""
        assert place_join({}, take(22), TEMPO, 3, 0.0) == pytest.approx(7.0 - BEFORE_S)


class TestSeam:
    """What a join changes in the cymbals."""

    def ring(self, level_db, seed):
        x = np.random.default_rng(seed).normal(0, 1, 2 * int(SEAM_S * RATE))
        x = signal.sosfilt(signal.butter(2, [3000, 15000], "band", fs=RATE, output="sos"), x) * 10 ** (level_db / 20)
        x[::9600] += 1.0  # strokes above the ring
        return x.astype(np.float32)

    @pytest.mark.parametrize(("step_db", "heard"), [(0.0, False), (2.0, False), (7.0, True), (-7.0, True)])
    def test_known_steps(self, step_db, heard):
        """Within 1 dB in both bands; the strokes do not matter."""
        found = seam(self.ring(-40.0, 1), self.ring(-40.0 + step_db, 2), 5, RATE)
        assert found.steps_db == pytest.approx((step_db, step_db), abs=1.0)
        assert found.heard is heard
