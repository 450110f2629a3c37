"""What mics hear, against kits whose files carry each other's names."""

import itertools

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.lineup.measure import measure as arrivals
from arkund.core.load.measure import Alike, alike, heard, pair, pairs
from arkund.core.load.propose import doubled, exchange, loudest_piece, sides, swapped, swapped_kick, swapped_toms
from arkund.core.load.sound import AVERAGE_PEAK_DB, KINDS, average_hit, features_of, kind_of, likely
from arkund.core.plan import change
from tests.kits import small_kit


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=971, style="straight", bpm=104.0, bars=8)


def sided(plan):
    """The Plan with the sides that its names say."""
    mics = [m.replace(side=m.name[-1]) if m.name[-2:] in (" L", " R") else m for m in plan.mics]
    return plan.replace(mics=tuple(mics))


def likelihoods(kit):
    names = [mic.id for mic in kit.plan.mics]
    found = likely(features_of([kit.readers[name] for name in names], kit.sample_rate_hz))
    return dict(zip(names, found, strict=True))


def exchanged(plan, a, b):
    """The Plan with two mics under each other's place, as if their files had been named wrongly."""
    return change.put(plan, {k: v for k, v in exchange(plan.mic(a), plan.mic(b)).items() if not k.endswith("name")})


class TestSwapped:
    """Any two files that carry each other's name."""

    @pytest.mark.parametrize(("seed", "style"), [(971, "straight"), (972, "busy"), (973, "sixeight")])
    def test_by_their_sound(self, seed, style):
        """At least 95 % of all pairs of different kinds; nothing is called swapped that is not."""
        kit = small_kit(seed=seed, style=style, bpm=70.0 if style == "sixeight" else 104.0, bars=8)
        told, plan = likelihoods(kit), kit.plan
        assert not [f for f in swapped(plan, told, {}) if f.key.startswith("load:swap")]
        kinds = {m.id: kind_of(m.piece, m.role) for m in plan.mics}
        tried = [(a, b) for a, b in itertools.combinations(kinds, 2) if kinds[a] != kinds[b]]
        found = 0
        for a, b in tried:
            notes = swapped(exchanged(plan, a, b), told, {})
            found += any({a, b} == {k.split(".")[1] for k in f.changes} for f in notes)
        assert found >= 0.95 * len(tried)

    def test_the_fix_undoes_it(self, kit):
        """One step gives each its place again."""
        wrong = exchanged(kit.plan, "SN top", "HH")
        (note,) = [f for f in swapped(wrong, likelihoods(kit), {}) if f.changes]
        right = change.put(wrong, note.changes)
        assert [(m.piece, m.role) for m in right.mics] == [(m.piece, m.role) for m in kit.plan.mics]

    @pytest.mark.parametrize(("a", "b"), [("T1", "T2"), ("T1", "FT"), ("T2", "FT")])
    def test_toms_by_their_pitch(self, kit, a, b):
        """The next one is the lower one."""
        hz = {"T1": 148.0, "T2": 117.0, "FT": 82.0}
        assert swapped_toms(kit.plan, hz) == []
        (note,) = swapped_toms(exchanged(kit.plan, a, b), hz)
        assert {k.split(".")[1] for k in note.changes} == {a, b}

    def test_kick_mics_by_arrival(self, kit):
        """The inner one is always the first."""
        wrong = exchanged(kit.plan, "KD in", "KD out")
        hits = {p: list(mine) for p, mine in kit.hits.items()}
        for plan, count in ((kit.plan, 0), (wrong, 1)):
            delays = {a.mic: a.delay_ms for a in arrivals(plan, kit, hits) if a.sure}
            assert len(swapped_kick(plan, delays)) == count

    def test_silence_is_no_mic(self):
        """And says nothing."""
        assert likely(features_of([ArrayMic(np.zeros(48_000)), None], 48_000)) == [{}, {}]


class TestHeard:
    """Which piece a mic hears loudest."""

    def test_close_mics_hear_their_own(self, kit):
        """Against how loud the others hear it, and first."""
        rows = heard(kit.plan, kit, kit.hits)
        loudest = loudest_piece(rows)
        for mic in kit.plan.mics:
            if mic.piece in kit.hits and mic.role in ("in", "top", "close", "spot"):
                assert loudest[mic.id] == mic.piece
        snare = {row.mic: row.later_ms for row in rows if row.piece == "snare"}
        assert snare["SN top"] == 0.0
        assert snare["OH L"] > 2.0
        assert snare["Rm L"] > snare["OH L"]


class TestAlike:
    """Files that are the same."""

    def test_a_copy_turned_over_and_softer(self, kit):
        """Found with its gain and polarity; no other pair is."""
        rng = np.random.default_rng(1)
        copy = -0.5 * kit.readers["FT"].read(0, kit.samples) + rng.normal(0, 1e-6, kit.samples)
        changed = type(kit)(**{**vars(kit), "readers": kit.readers | {"T2": ArrayMic(copy)}})
        (row,) = alike(kit.plan, changed, (48_000, 480_000))
        assert {row.a, row.b} == {"T2", "FT"}
        assert abs(row.gain_db) == pytest.approx(6.02, abs=0.05)
        assert row.inverted
        (note,) = doubled(kit.plan, [row])
        assert "same recording" in note.title

    def test_a_mono_pair(self, kit):
        """Has no width."""
        plan = sided(kit.plan)
        (note,) = doubled(plan, [Alike("OH L", "OH R", -90.0, 0.0, False)])
        assert "both sides" in note.title


class TestSides:
    """Left and right."""

    def measured(self, plan, kit):
        rows = heard(plan, kit, kit.hits)
        return [pair(plan, kit, kit.hits, a, b, rows) for a, b in pairs(plan)]

    def test_as_it_should_be(self, kit):
        """No notes."""
        plan = sided(kit.plan)
        assert len(pairs(plan)) == 2
        assert sides(plan, self.measured(plan, kit)) == []

    def test_left_and_right_exchanged(self, kit):
        """The pair is named."""
        plan = exchanged(sided(kit.plan), "OH L", "OH R")
        notes = sides(plan, self.measured(plan, kit))
        assert [n.key.split(":")[1] for n in notes] == ["sides"]
        assert "left and right look swapped" in notes[0].title

    def test_one_side_turned_over(self, kit):
        """Found by the snare, and mended by a turn."""
        turned = type(kit)(
            **{**vars(kit), "readers": kit.readers | {"OH R": ArrayMic(-kit.readers["OH R"].read(0, kit.samples))}}
        )
        plan = sided(kit.plan)
        (note,) = sides(plan, self.measured(plan, turned))
        assert note.changes == {"mics.OH R.line_up.inverted": True}


def test_every_mic_of_the_kit_has_a_kind(kit):
    """Of those that are told apart."""
    assert {kind_of(m.piece, m.role) for m in kit.plan.mics} == set(KINDS)


class TestAverageHit:
    """What is heard of a mic whose name is in doubt."""

    def test_the_hit_stays_and_the_rest_goes(self):
        """Twelve equal hits with other noise around each: their average is the hit, the noise less by the root of their number."""
        rng, t = np.random.default_rng(8), np.arange(12_000) / 48_000
        one = np.sin(2 * np.pi * 190 * t) * np.exp(-t / 0.05)
        x = rng.standard_normal(48_000 * 8) * 0.03
        for k in range(12):
            x[9000 + 30_000 * k :][: one.size] += one
        found = average_hit(lambda a, b: x[a:b], x.size, 48_000)
        assert 20 * np.log10(np.abs(found).max()) == pytest.approx(AVERAGE_PEAK_DB, abs=0.01)
        onset = int(np.argmax(np.abs(found) > 0.3 * np.abs(found).max()))
        wanted = one[int(np.argmax(np.abs(one) > 0.3)) :][:6000]
        got = found[onset : onset + wanted.size]
        assert np.corrcoef(got, wanted)[0, 1] > 0.995

    def test_silence(self):
        """Has none."""
        assert average_hit(lambda a, b: np.zeros(b - a), 96_000, 48_000) is None
