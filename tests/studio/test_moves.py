"""Moves: one transaction each, undone and redone, never on a stale version."""

import pytest

from arkund.core.errors import SettingsError, StaleError
from arkund.core.plan.plan import MicPlan, Plan
from arkund.studio.models import Decision, MicRecording, Move, Session, Take
from arkund.studio.services import moves

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
    return moves.apply(session.pk, {"mics.sn.trim_db": value}, step="level", title=f"trim {value}", **more)


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
            {"mics.sn.gate": {"threshold_db": -20.0, "sparkle": 1}},
            {"tempo.bpm": 0},
            {"mics": []} | {"layers": [{"capture": "none"}]},
            {},
            {"mics.sn.trim_db": -1.0, "tempo.bpm": -5},
        ],
    )
    def test_refused_changes_change_nothing(self, plain, changes):
        """Also where only one of several is wrong."""
        with pytest.raises(SettingsError):
            moves.apply(plain.pk, changes, step="level", title="x")
        assert trim(plain) == 0.0
        assert plain.version == 0
        assert not Move.objects.exists()

    def test_stale_version(self, plain):
        """The later one is told what changed meanwhile, with the value."""
        change(plain, -3.0, version=0)
        with pytest.raises(StaleError, match=r"mics\.sn\.trim_db is now -3\.0"):
            change(plain, -9.0, version=0)
        assert trim(plain) == -3.0


class TestUndo:
    """Back and forth."""

    def test_undo_and_redo(self, plain):
        """In order, as often as wanted; at the ends nothing happens."""
        for value in (-1.0, -2.0, -3.0):
            change(plain, value)
        assert moves.undo(plain.pk).title == "trim -3.0"
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
        moves.decide(plain.pk, "level:trim:sn", Decision.LEFT, title="t", step="level", reason="sounds right")
        moves.decide(plain.pk, "level:trim:sn", Decision.DONE, title="t", step="level")
        assert plain.decisions.get().verdict == Decision.DONE


def test_a_changed_plan_is_not_read_again(session, monkeypatch):
    """What was just written is known, from whatever row it comes; another one is read."""
    moves.apply(session.pk, {"mics.sn-top.trim_db": -2.5}, step="level", title="softer")
    read = []
    plain = Plan.from_json
    monkeypatch.setattr(Plan, "from_json", lambda data: read.append(1) or plain(data))
    fresh = Session.objects.get(pk=session.pk)
    assert fresh.plan.mic("sn-top").trim_db == -2.5
    assert not read
    fresh.plan_json["mics"][0]["trim_db"] = 1.25
    assert fresh.plan.mics[0].trim_db == 1.25
    assert read
