"""Moves: one transaction each, undone and redone, never on a stale version."""

import pytest
from django.test import Client

from arkund.core.errors import SettingsError, StaleError, UnchangedError
from arkund.core.findings import Finding
from arkund.core.plan.change import get as change_of
from arkund.core.plan.plan import MicPlan, Plan
from arkund.studio.models import Decision, MicRecording, Move, Session, Take
from arkund.studio.services import document, moves, proposing, reverting
from arkund.studio.services.findings import standing_decisions
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db


@pytest.fixture
def plain() -> Session:
    plan = Plan(take="take-1", mics=(MicPlan(id="sn", name="SN", piece="snare", role="top"),))
    made = Session.objects.create(name="s", sample_rate_hz=48_000, plan_json=plan.to_json(), ready=True)
    take = Take.objects.create(session=made, key="take-1", name="one")
    MicRecording.objects.create(take=take, mic="sn", file="SN.wav", digest="0" * 64, length=1, peak_db=0.0)
    return made


def trim(session) -> float:
    session.refresh_from_db()
    return session.plan.mic("sn").trim_db


def change(session, value, **more):
    session.refresh_from_db()
    given = {"version": session.version} | more
    return moves.apply(session.pk, {"mics.sn.trim_db": value}, step="level", title=f"trim {value}", **given)


class TestApply:
    """Before, after, reason and version."""

    def test_what_is_kept(self, plain):
        """The Move carries both values and why."""
        made = change(plain, -3.0, reason="too hot", measured="peaks at -1")
        assert (made.before, made.after) == ({"mics.sn.trim_db": 0.0}, {"mics.sn.trim_db": -3.0})
        assert (made.reason, made.measured, made.made_on) == ("too hot", "peaks at -1", 0)
        assert trim(plain) == -3.0
        assert plain.version == 1

    @pytest.mark.parametrize(
        "changes",
        [
            {"mics.sn.trim_db": 99.0},
            {"mics.sn.trim_db": "loud"},
            {"mics.sn.trim_db": None},
            {"mics.xx.trim_db": 1.0},
            {"mics.sn.colour": 1.0},
            {"mics.sn.tools.gate": {"kind": "gate", "threshold_db": -20.0, "sparkle": 1}},
            {"tempo.bpm": 0},
            {"mics": []} | {"placements": [{"capture": "none"}]},
            {},
            {"mics.sn.trim_db": -1.0, "tempo.bpm": -5},
        ],
    )
    def test_refused_changes_change_nothing(self, plain, changes):
        """Also where only one of several is wrong."""
        with pytest.raises(SettingsError):
            apply(plain.pk, changes, step="level", title="x")
        assert trim(plain) == 0.0
        assert plain.version == 0
        assert not Move.objects.exists()

    def test_stale_version(self, plain):
        """The later one is told what changed meanwhile, with the value."""
        change(plain, -3.0, version=0)
        with pytest.raises(StaleError, match=r"mics\.sn\.trim_db was changed .*it is now -3\.0"):
            change(plain, -9.0, version=0)
        with pytest.raises(StaleError, match="not of this version"):
            change(plain, -9.0, version=2)
        assert trim(plain) == -3.0

    @pytest.mark.parametrize(
        ("theirs", "mine", "both"),
        [
            ({"tempo.bpm": 99.0}, {"mics.sn.trim_db": -9.0}, False),
            ({"mics.sn.trim_db": -3.0}, {"mics.sn.level_db": -9.0}, False),
            ({"mics.sn.line_up": {"delay_ms": 1.0}}, {"mics.sn.line_up.delay_ms": 2.0}, True),
            ({"mics.sn.line_up.delay_ms": 1.0}, {"mics.sn.line_up": {"delay_ms": 2.0}}, True),
        ],
    )
    def test_what_others_set_elsewhere(self, plain, theirs, mine, both):
        """Stays, and so does this; what is part of the same setting is refused, also where the other was undone since."""
        moves.apply(plain.pk, theirs, step="set", title="theirs", version=0)
        moves.undo(plain.pk)
        moves.redo(plain.pk)
        if both:
            with pytest.raises(StaleError, match="theirs"):
                moves.apply(plain.pk, mine, step="set", title="mine", version=0)
            return
        moves.apply(plain.pk, mine, step="set", title="mine", version=0)
        plain.refresh_from_db()
        for path, value in (theirs | mine).items():
            assert change_of(plain.plan, path) == value

    def test_an_undo_is_a_change(self, plain):
        """Who saw a value that was undone since is told so."""
        change(plain, -3.0)
        moves.undo(plain.pk)
        with pytest.raises(StaleError, match="undone"):
            change(plain, -9.0, version=1)

    def test_own_moves_are_no_strangers(self, plain):
        """Several that were worked out on one version follow each other."""
        first = change(plain, -3.0, version=0)
        change(plain, -4.0, version=0, mine=[first.number])
        assert trim(plain) == -4.0

    def test_nothing_new(self, plain):
        """What is so already is no Move."""
        change(plain, -3.0)
        with pytest.raises(UnchangedError, match="it is so already"):
            change(plain, -3.0)
        assert plain.moves.count() == 1


class TestUndo:
    """Back and forth."""

    def test_undo_and_redo(self, plain):
        """In order, as often as wanted; at the ends nothing happens."""
        for value in (-1.0, -2.0, -3.0):
            change(plain, value)
        assert moves.undo(plain.pk).title == "trim −3.0"
        moves.undo(plain.pk)
        assert trim(plain) == -1.0
        moves.redo(plain.pk)
        assert trim(plain) == -2.0
        moves.undo(plain.pk)
        moves.undo(plain.pk)
        assert moves.undo(plain.pk) is None
        assert trim(plain) == 0.0
        for _ in range(3):
            moves.redo(plain.pk)
        assert moves.redo(plain.pk) is None
        assert trim(plain) == -3.0

    def test_a_new_move_drops_what_was_undone(self, plain):
        """It stays in the logbook, but cannot be redone."""
        change(plain, -1.0)
        moves.undo(plain.pk)
        change(plain, -5.0)
        assert moves.redo(plain.pk) is None
        assert list(plain.moves.values_list("state", flat=True)) == [Move.DROPPED, Move.DONE]

    def test_the_one_that_is_meant(self, plain):
        """A window that does not know of a later Move takes no other one back."""
        seen, later = change(plain, -1.0), change(plain, -2.0)
        for turn in (moves.undo, moves.redo):
            with pytest.raises(StaleError, match="Meanwhile the next Move to be"):
                turn(plain.pk, seen.number)
        assert trim(plain) == -2.0
        assert moves.undo(plain.pk, later.number) == later
        assert moves.redo(plain.pk, later.number) == later
        assert trim(plain) == -2.0

    def test_every_version_is_new(self, plain):
        """Undo counts as a change for other windows."""
        change(plain, -1.0)
        moves.undo(plain.pk)
        plain.refresh_from_db()
        assert plain.version == 2


class TestDecide:
    """Findings that were left."""

    def test_latest_decision_counts(self, plain):
        """One row per finding, with the reason."""
        finding = Finding("level", "level:trim:sn", "sn", "t", "e", {"mics.sn.trim_db": -1.0})
        moves.decide_left(plain.pk, finding, "sounds right")
        assert standing_decisions(plain, [finding.key])[finding.key].reason == "sounds right"
        proposing.accept(plain.pk, finding, "", plain.version)
        assert plain.decisions.get().verdict == Decision.DONE

    def test_undone_is_undecided(self, plain):
        """What was done by a Move is so as long as that stands."""
        finding = Finding("level", "level:trim:sn", "sn", "t", "e", {"mics.sn.trim_db": -1.0})
        proposing.accept(plain.pk, finding, "", plain.version)
        assert finding.key in standing_decisions(plain, [finding.key])
        moves.undo(plain.pk)
        assert finding.key not in standing_decisions(plain, [finding.key])
        moves.redo(plain.pk)
        assert finding.key in standing_decisions(plain, [finding.key])


def test_a_changed_plan_is_not_read_again(session, monkeypatch):
    """What was just written is known, from whatever row it comes; another one is read."""
    apply(session.pk, {"mics.sn-top.trim_db": -2.5}, step="level", title="softer")
    read = []
    plain = Plan.from_json
    monkeypatch.setattr(Plan, "from_json", lambda data, where="": read.append(1) or plain(data, where))
    fresh = Session.objects.get(pk=session.pk)
    assert fresh.plan.mic("sn-top").trim_db == -2.5
    assert not read
    fresh.plan_json["mics"][0]["trim_db"] = 1.25
    assert fresh.plan.mics[0].trim_db == 1.25
    assert read


class TestFits:
    """A Plan names only what its session has, whichever way it is changed."""

    @pytest.mark.parametrize(
        ("changes", "words"),
        [
            ({"take": "take-9"}, "no take 'take-9' in this session; there are take-1"),
            ({"mics": []}, "sn was recorded and is no longer among them"),
            ({"joins": [{"at": 5, "take": "take-9", "from_at": 5}]}, "joins: no take"),
            (
                {"captures": [{"id": "c", "piece": "snare", "take": "take-9", "at": 5, "length": 9}]},
                "captures: no take",
            ),
            (
                {"captures": [{"id": "a.b", "piece": "snare", "take": "take-1", "at": 5, "length": 9}]},
                "not of the form",
            ),
        ],
    )
    def test_refused(self, plain, changes, words):
        """By the service, as a Move of a page, and as a change that is only tried on; nothing is half changed."""
        with pytest.raises(SettingsError, match=words):
            apply(plain.pk, changes, step="load", title="x")
        tried = {"start": 0, "stop": 4800, "changes": changes}
        asked = {"changes": changes, "version": 0, "step": "load"}
        for name, body in (("moves", asked), ("audition", tried)):
            answer = Client().post(f"/s/{plain.pk}/{name}", body, "application/json")
            assert answer.status_code == 400
        plain.refresh_from_db()
        assert plain.version == 0

    def test_another_mic(self, plain):
        """One that was never recorded."""
        mics = [*plain.plan_json["mics"], {"id": "new", "name": "New"}]
        with pytest.raises(SettingsError, match="no recording of 'new'"):
            apply(plain.pk, {"mics": mics}, step="load", title="x")

    def test_undone_after_a_take_went(self, plain):
        """Going back to a take that is there no longer is refused as well."""
        Take.objects.create(session=plain, key="take-2", name="two").mics.create(
            mic="sn", file="SN.wav", digest="1" * 64, length=1, peak_db=0.0
        )
        apply(plain.pk, {"take": "take-2"}, step="load", title="x")
        apply(plain.pk, {"take": "take-1"}, step="load", title="x")
        Take.objects.filter(key="take-2").delete()
        with pytest.raises(SettingsError, match="no take 'take-2'"):
            moves.undo(plain.pk)


class TestLongLogbook:
    """Thousands of Moves and decisions."""

    def test_what_a_page_reads(self, plain, client):
        """The logbook shows them page by page, all of them in the end; a step's notes read those decisions that are about them."""
        first = plain.moves.count()
        Move.objects.bulk_create(
            Move(
                session=plain,
                number=10_000 + k,
                made_on=1,
                last_version=2,
                step="load",
                title=f"made {k}",
                before={},
                after={},
            )
            for k in range(450)
        )
        Decision.objects.bulk_create(
            Decision(session=plain, key=f"load:{move.number}", step="load", verdict="done", move=move)
            for move in plain.moves.filter(number__gte=10_000)
        )
        pages = [client.get(f"/s/{plain.pk}/logbook/?page={k}").content.decode() for k in (1, 2, 3)]
        assert [page.count("<article") for page in pages] == [200, 200, 50 + first]
        assert "older" in pages[0]
        assert "newer" not in pages[0]
        assert "made 0 " in pages[2]
        assert len(standing_decisions(plain, ["load:10003", "load:x"])) == 1


class TestWhatFollows:
    """Settings that change with others are part of the Move, and of its undo."""

    def test_releases_follow_the_tempo(self, session):
        """Also where a whole row of tools was written; undone they are as before."""
        place = "mics.sn-top.tools.compressor"
        moves.apply(session.pk, {f"{place}.release_by": "1/8"}, step="punch", title="an eighth", version=0)
        session.refresh_from_db()
        assert session.plan.mic("sn-top").tool("compressor").release_ms == 250.0
        moves.apply(session.pk, {"tempo.bpm": 100.0}, step="timing", title="slower", version=1)
        session.refresh_from_db()
        assert session.plan.mic("sn-top").tool("compressor").release_ms == 300.0
        row = [each.to_json() for each in session.plan.mic("sn-top").tools]
        row = [each | ({"release_by": "1/4"} if each["kind"] == "compressor" else {}) for each in row]
        moves.apply(session.pk, {"mics.sn-top.tools": row}, step="punch", title="a quarter", version=2)
        session.refresh_from_db()
        assert session.plan.mic("sn-top").tool("compressor").release_ms == 600.0
        for wanted_ms in (300.0, 250.0, 100.0):
            moves.undo(session.pk)
            session.refresh_from_db()
            assert session.plan.mic("sn-top").tool("compressor").release_ms == wanted_ms
        assert session.plan.tempo.bpm == 120.0


class TestRevert:
    """One Move taken back by itself."""

    @pytest.fixture
    def rows(self, plain) -> list[Move]:
        """A trim, a name and a polarity."""
        given = [{"mics.sn.trim_db": -3.0}, {"mics.sn.name": "Snare"}, {"mics.sn.line_up.inverted": True}]
        return [apply(plain.pk, changes, step="level", title=f"deed {n}") for n, changes in enumerate(given, 1)]

    def test_one_of_the_middle(self, plain, rows):
        """What came after it stays; the logbook says what was done, and undo goes on from there."""
        made = reverting.revert(plain.pk, rows[1].number)
        plain.refresh_from_db()
        mic = plain.plan.mic("sn")
        assert (mic.name, mic.trim_db, mic.line_up.inverted) == ("SN", -3.0, True)
        assert (made.title, made.reverts, made.step) == ("Undone: deed 2", 2, "level")
        assert [move.number for move in reverting.standing(plain)] == [1, 3, 4]
        moves.undo(plain.pk)
        plain.refresh_from_db()
        assert plain.plan.mic("sn").name == "Snare"
        assert [move.number for move in reverting.standing(plain)] == [1, 2, 3]

    def test_done_again(self, plain, rows):
        """Taking back the taking back does it again, by the former title."""
        made = reverting.revert(plain.pk, rows[0].number)
        again = reverting.revert(plain.pk, made.number)
        assert (again.title, again.reverts) == ("deed 1", made.number)
        assert trim(plain) == -3.0
        assert [move.number for move in reverting.standing(plain)] == [1, 2, 3, 5]

    def test_what_was_built_upon_it(self, plain, rows):
        """Is named, and nothing is changed."""
        change(plain, -4.0)
        version = plain.version
        with pytest.raises(
            SettingsError, match=r"“deed 1” cannot be undone by itself.* Move 4, “trim -4.0”".replace("-", "[-−]")
        ):
            reverting.revert(plain.pk, 1)
        plain.refresh_from_db()
        assert plain.version == version + 1
        assert trim(plain) == -4.0

    def test_twice(self, plain, rows):
        """What does not stand cannot be taken back."""
        reverting.revert(plain.pk, 2)
        for number in (2, 99):
            with pytest.raises(SettingsError, match="does not stand"):
                reverting.revert(plain.pk, number)

    def test_its_note_is_open_again(self, plain):
        """A note that was done by it waits for a decision, and is done again by another Move."""
        finding = Finding("level", "level:trim:sn", "sn", "SN: -3 dB", "peaks high", {"mics.sn.trim_db": -3.0})
        made = proposing.accept(plain.pk, finding, "", plain.version)
        assert standing_decisions(plain, [finding.key])
        reverting.revert(plain.pk, made.number)
        assert not standing_decisions(plain, [finding.key])
        plain.refresh_from_db()
        assert reverting.set_by_hand(plain) == {"mics.sn.trim_db"}

    def test_leaves_and_comes_back(self, plain, rows):
        """An archive knows what was taken back, and refuses a logbook in which the later is taken back by the earlier."""
        reverting.revert(plain.pk, 2)
        data = document.describe(plain)
        data["takes"][0]["length"] = 1
        there = document.create(document.Document.from_json(data))
        assert [move.number for move in reverting.standing(there)] == [1, 3, 4]
        data["moves"][0]["reverts"] = 3
        with pytest.raises(SettingsError, match="takes back a later one"):
            document.Document.from_json(data)
