"""What mics hear, against kits whose files carry each other's names."""

import re

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.load.couples import Later, later
from arkund.core.load.measure import Alike, Heard, alike, heard, pair, pairs
from arkund.core.load.propose import doubled, exchange, loudest_piece, sides, swapped
from arkund.core.load.sound import AVERAGE_PEAK_DB, KINDS, average_hit, features_of, kind_of, likely
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan
from tests.foreign import FOREIGN
from tests.kits import small_kit


@pytest.fixture(scope="module")
def kit():
    return small_kit(seed=971, style="straight", bpm=104.0, bars=8)


def sided(plan):
    """The Plan with the sides that its names say."""
    mics = [m.replace(side=m.name[-1]) if m.name[-2:] in (" L", " R") else m for m in plan.mics]
    return plan.replace(mics=tuple(mics))


def exchanged(plan, a, b):
    """The Plan with two mics under each other's place, as if their files had been named wrongly."""
    return change.put(plan, {k: v for k, v in exchange(plan.mic(a), plan.mic(b)).items() if not k.endswith("name")})


COUPLES = [
    ("KD in", "KD out"),
    ("SN top", "Snr btm"),
    ("HH", "Ride"),
    ("T1", "T2"),
    ("T1", "FT"),
    ("T2", "FT"),
    ("OH L", "OH R"),
]


def doubted(kit, plan, hits, hz=None):
    """Return the notes on couples, the toms' pitch told or not."""
    return swapped(plan, later(plan, kit, hits), heard(plan, kit, hits), hz or {})


def told_of(plan, exchanged_plan, hits):
    """Return the hits as they are found where files carry each other's names: by what a drum's own mic is called."""
    piece_of = {mic.id: mic.piece for mic in exchanged_plan.mics}
    called = {mic.piece: piece_of[mic.id] for mic in plan.mics if mic.piece in hits}
    return {called.get(piece, piece): mine for piece, mine in hits.items()}


@pytest.fixture(
    scope="module",
    params=[FOREIGN[0], *(pytest.param(each, marks=pytest.mark.long) for each in FOREIGN[1:])],
    ids=lambda library: library.__name__,
)
def foreign(request):
    return small_kit(seed=1271, style="busy", bpm=98.0, bars=8, strokes_of=request.param)


class TestSwapped:
    """Couples whose files carry each other's name, whatever the kit sounds like; ``make survey-swaps`` tries it on many kits with the hits that are found."""

    def test_a_clear_name_stands(self, foreign):
        """Nothing is doubted that is named rightly, whatever toms seem to sound like."""
        plan = sided(foreign.plan)
        for hz in ({}, {"T1": 148.0, "T2": 117.0, "FT": 82.0}, {"T1": 82.0, "T2": 190.0, "FT": 110.0}):
            assert doubted(foreign, plan, foreign.hits, hz) == []

    @pytest.mark.parametrize(("a", "b"), COUPLES)
    def test_physics_speaks_against_it(self, foreign, a, b):
        """The couple is named, and no other; one step gives each its place again."""
        plan = sided(foreign.plan)
        wrong = exchanged(plan, a, b)
        (note,) = doubted(foreign, wrong, told_of(plan, wrong, foreign.hits))
        assert {k.split(".")[1] for k in note.changes} == {a, b}
        assert note.key.startswith("load:sides:" if a == "OH L" else "load:swap:")
        assert re.search(r"\d", note.evidence)
        right = change.put(wrong, note.changes)
        assert [(m.piece, m.role, m.side) for m in right.mics] == [(m.piece, m.role, m.side) for m in plan.mics]

    @pytest.mark.parametrize(("a", "b"), COUPLES[3:6])
    def test_toms_by_their_pitch_alone(self, kit, a, b):
        """Where nothing tells where they stand, the next one is the lower one."""
        hz = {"T1": 148.0, "T2": 117.0, "FT": 82.0}
        assert swapped(kit.plan, [], [], hz) == []
        (note,) = swapped(exchanged(kit.plan, a, b), [], [], hz)
        assert {k.split(".")[1] for k in note.changes} == {a, b}

    def test_many_toms(self, kit):
        """Twelve toms have too many orders to look at them all: nothing is said, and at once."""
        toms = tuple(
            MicPlan(id=f"T{k}", name=f"T{k}", piece=f"tom{1 + k % 4}", role="close", tools=()) for k in range(12)
        )
        hz = {mic.id: 80.0 + 5.0 * k for k, mic in enumerate(toms)}
        assert swapped(kit.plan.replace(mics=toms), [], [], hz) == []

    @pytest.mark.parametrize(
        ("snare_ms", "kick_db", "said"),
        [(-0.2, -2.0, 1), (-0.2, 6.0, 0), (0.0, -6.0, 1), (0.0, 2.0, 0), (0.2, -6.0, 0)],
    )
    def test_one_against_the_other(self, kit, snare_ms, kick_db, said):
        """What speaks clearly for a name outweighs what speaks against it; kick_db : by which the kick is louder below, against the snare."""
        rows = [Later("SN top", "Snr btm", "snare", snare_ms, True, 20)]
        level = {
            ("SN top", "snare"): 0.0,
            ("SN top", "kick"): -30.0,
            ("Snr btm", "snare"): 0.0,
            ("Snr btm", "kick"): kick_db - 30.0,
        }
        loud = [Heard(mic, piece, db, 0.0, 20) for (mic, piece), db in level.items()]
        assert len(swapped(kit.plan, rows, loud, {})) == said

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
        return [pair(plan, kit, kit.hits, a, b) for a, b in pairs(plan)]

    def test_as_it_should_be(self, kit):
        """No notes."""
        plan = sided(kit.plan)
        assert len(pairs(plan)) == 2
        assert sides(plan, self.measured(plan, kit)) == []

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
