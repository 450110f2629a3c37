"""The solver against problems whose answers are known."""

import numpy as np
import pytest

from arkund.core.autokit.objective import FAR, INSIDE, Goal, Objective
from arkund.core.autokit.solver import Lever, _corrected, _Problem, solve
from arkund.core.card.targets import INF

FREE = dict.fromkeys("ab", 0.0)


def solved(rows, levers, measure, **more):
    return solve(levers, Objective(tuple(rows)), measure, **more)


class TestSolve:
    """Levers found by measuring alone."""

    def test_a_figure_that_jumps(self):
        """What it jumps by over a tenth of a step is no response of five a unit; over a whole step what it moves by is believed."""
        problem = _Problem(
            [Lever("a", 0.0, -6.0, 6.0)], Objective((Goal("f", 1.0, 2.0),)), lambda v: {"f": 0.5 * (v["a"] > 0.0)}
        )
        start, none = np.array([0.0]), np.zeros((1, 1))
        assert _corrected(problem, start, np.array([0.1]), none) == pytest.approx(0.05)
        assert _corrected(problem, start, np.array([1.0]), none) == pytest.approx(0.5)
        assert _corrected(problem, start, start, none) == pytest.approx(0.0)

    def test_the_nearest_edge(self):
        """A figure is brought just inside its range, and no further."""
        found = solved([Goal("f", 1.0, 4.0)], [Lever("a", 0.0, -6.0, 6.0)], lambda v: {"f": 0.5 * v["a"] - 1.0})
        assert found.figures["f"] == pytest.approx(1.0 + INSIDE, abs=0.06)
        assert found.moved == {"a": pytest.approx(2.0 * (2.0 + INSIDE), abs=0.11)}

    def test_what_holds_is_left_alone(self):
        """Nothing is moved where all figures are in range."""
        found = solved([Goal("f", -1.0, 1.0)], [Lever("a", 0.0, -6.0, 6.0)], lambda v: {"f": v["a"]})
        assert found.moved == {}

    def test_few_rather_than_many(self):
        """Of levers that do the same the cheapest, the dearer ones not at all."""
        levers = [Lever(key, 0.0, -6.0, 6.0, price=0.05 + 0.02 * k) for k, key in enumerate("abcd")]
        found = solved([Goal("f", 2.0, INF)], levers, lambda v: {"f": sum(v.values())})
        assert list(found.moved) == ["a"]

    def test_for_the_sake_of(self):
        """A lever that would help a figure it does not serve is left alone; one that is moved for its own figure harms that one no more than it must."""
        own, other = (
            Lever("a", 0.0, -6.0, 6.0, serves=frozenset({"g"})),
            Lever("b", 0.0, -6.0, 6.0, serves=frozenset({"f"})),
        )
        both = lambda v: {"f": v["a"] + 0.5 * v["b"] - 2.0, "g": 0.0}
        found = solved([Goal("f", 0.0, INF), Goal("g", -1.0, 1.0)], [own, other], both)
        assert found.moved.keys() == {"b"}
        found = solved([Goal("f", -4.0, INF), Goal("g", 2.0, INF)], [own], lambda v: {"f": -2.0 * v["a"], "g": v["a"]})
        assert found.figures["g"] == pytest.approx(2.0, abs=0.15)
        assert found.figures["f"] >= -4.0 - 0.15

    def test_brought_back_and_no_further(self):
        """A lever that stands off its start comes back for the sake of a figure that it harms there, and does not go on beyond for it."""
        lever = Lever("a", 0.0, -6.0, 6.0, serves=frozenset({"g"}))
        both = lambda v: {"f": -v["a"] - 2.0, "g": 0.0}
        found = solved([Goal("f", 0.0, INF), Goal("g", -1.0, 1.0)], [lever], both, begin={"a": 4.0})
        assert found.moved == {}

    def test_bounds_hold(self):
        """Whatever is missed."""
        found = solved([Goal("f", 20.0, INF)], [Lever("a", 0.0, -3.0, 3.0)], lambda v: {"f": v["a"]})
        assert found.moved == {"a": 3.0}

    @pytest.mark.parametrize("seed", [7, 8, 9])
    def test_against_a_search_of_everything(self, seed):
        """Two levers, three figures that answer each other: no place of a fine grid misses less, at its price."""
        rng = np.random.default_rng(seed)
        matrix, offset = rng.normal(0.0, 0.6, (3, 2)), rng.normal(0.0, 3.0, 3)
        rows = [Goal(f"f{k}", -1.0, 1.0) for k in range(3)]
        levers = [Lever(key, 0.0, -4.0, 4.0) for key in "ab"]

        def measure(v):
            return dict(zip(("f0", "f1", "f2"), (matrix @ [v["a"], v["b"]] + offset).tolist(), strict=True))

        objective = Objective(tuple(rows)).tempered(measure(FREE))

        def merit(v):
            return objective.missed(measure(v)) + 0.05 * (abs(v["a"]) + abs(v["b"]))

        found = solved(rows, levers, measure)
        grid = np.arange(-4.0, 4.01, 0.1)
        best = min(merit({"a": a, "b": b}) for a in grid for b in grid)
        assert merit(FREE | found.moved) <= best + 0.2

    def test_a_response_that_bends(self):
        """Answers that saturate and cross each other are found all the same, by more steps."""

        def measure(v):
            a, b = v["a"], v["b"]
            return {"f": 3.0 * np.tanh(0.4 * a) + 0.2 * a * b - 2.5, "g": b - 0.15 * a * a}

        levers = [Lever(key, 0.0, -6.0, 6.0) for key in "ab"]
        found = solved([Goal("f", -0.5, 0.5), Goal("g", 0.0, 1.0)], levers, measure)
        assert all(row.low - 0.05 <= found.figures[row.key] <= row.high + 0.05 for row in found.objective.goals)

    def test_noise_does_not_move_it(self):
        """A lever that figures hardly answer is left alone."""
        levers = [Lever("a", 0.0, -6.0, 6.0), Lever("b", 0.0, -6.0, 6.0)]
        found = solved([Goal("f", 1.0, INF)], levers, lambda v: {"f": v["a"] + 0.01 * np.sin(9.0 * v["b"])})
        assert list(found.moved) == ["a"]

    def test_a_figure_that_is_lost(self):
        """One that is not known at the start counts for nothing; one that gets lost on the way stays as it was."""
        levers = [Lever("a", 0.0, -6.0, 6.0)]
        found = solved(
            [Goal("f", 2.0, INF), Goal("g", 5.0, INF)],
            levers,
            lambda v: {"f": v["a"], "g": None if v["a"] < 1.0 else 1.0},
        )
        assert found.figures["f"] == pytest.approx(2.0 + INSIDE, abs=0.06)

    def test_an_error_ends_it(self):
        """As where it is cancelled."""

        def measure(v):
            if v["a"]:
                raise InterruptedError
            return {"f": 0.0}

        with pytest.raises(InterruptedError):
            solved([Goal("f", 1.0, INF)], [Lever("a", 0.0, -6.0, 6.0)], measure)

    def test_begun_elsewhere(self):
        """It stays where it stands while little is to be won, and else goes on from there."""
        for price, moved in ((0.05, {"a": 4.0}), (0.2, {})):
            levers = [Lever("a", 0.0, -6.0, 6.0, price=price)]
            found = solved([Goal("f", -9.0, 9.0)], levers, lambda v: {"f": v["a"]}, begin={"a": 4.0})
            assert found.moved == moved


class TestObjective:
    """What a miss weighs."""

    def test_worse_than_raw(self):
        """A miss beyond the raw kit's own weighs three times as much."""
        row = Goal("f", 0.0, INF, raw=-2.0 + INSIDE)
        assert row.missed(-2.0 + INSIDE) == pytest.approx(2.0)
        assert row.missed(-3.0 + INSIDE) == pytest.approx(2.0 + 3.0)

    def test_in_both_parts(self):
        """Brought to where busiest and calmest part hold the range; to the middle between them where both cannot."""
        levers = [Lever("a", 0.0, -9.0, 9.0, price=0.01)]
        for calm_by, wanted in ((3.0, 1.0 - INSIDE), (-2.0, 2.0 + INSIDE), (9.0, -2.5)):
            start = 4.0 if calm_by > 0.0 else 0.0
            found = solved([Goal("f", 0.0, 4.0, calm_by=calm_by)], levers, lambda v, start=start: {"f": v["a"] + start})
            assert found.figures["f"] == pytest.approx(wanted, abs=0.1)

    def test_far_off(self):
        """What is missed by far weighs no more than FAR of it."""
        rows = Objective((Goal("f", 0.0, INF), Goal("g", 0.0, INF))).tempered({"f": -4.0 * FAR, "g": -1.0})
        assert [row.weight for row in rows.goals] == [pytest.approx(0.25), 1.0]

    def test_together(self):
        """Rows that share a name count by the furthest of them."""
        rows = Objective((Goal("a", -1.0, 1.0, shares="slope"), Goal("b", -1.0, 1.0, shares="slope")))
        assert rows.missed({"a": 3.0, "b": -4.0}) == pytest.approx(3.0 + INSIDE)
