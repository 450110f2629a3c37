"""One click while an engineer works on: every Move that was accepted is there in the end."""

import pytest

from arkund.core.clean.settings import DEPTH
from arkund.core.errors import CancelledError, StaleError
from arkund.core.findings import Finding
from arkund.studio.models import Move, Session
from arkund.studio.services import kit_solver, moves, proposing
from arkund.studio.services.findings import notes
from arkund.studio.services.measuring import Measure
from arkund.studio.services.unattended import Unattended
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db
TRIM, LEVEL = "mics.sn-top.trim_db", "groups.snare.level_db"


def value(session: Session, path: str) -> float:
    session.refresh_from_db()
    return moves.change.get(session.plan, path)


class TestUnattended:
    """What a job may change."""

    def test_what_others_have_set_since_it_began(self, session):
        """Is left alone, also where it was undone since; its own Moves are no strangers to it."""
        job = Unattended(session.pk)
        apply(session.pk, {TRIM: -3.0}, step="level", title="by hand")
        moves.undo(session.pk)
        now = job.session().version
        assert job.make({TRIM: -1.0}, version=now, step="level", title="first") is None
        assert job.make({"mics.kd-in.trim_db": -1.0}, version=now, step="level", title="second") is not None
        assert job.make({"mics.kd-in.trim_db": -2.0}, version=now, step="level", title="third") is not None
        assert job.left == ["first"]
        assert value(session, TRIM) == 0.0
        assert value(session, "mics.kd-in.trim_db") == -2.0

    def test_what_was_set_between_measuring_and_changing(self, session):
        """Belongs to who set it, down to a part of what is to be changed."""
        job = Unattended(session.pk)
        version = job.session().version
        apply(session.pk, {"mics.sn-top.tools.gate.on": True}, step="clean", title="by hand")
        row = [tool.to_json() for tool in session.plan.mic("sn-top").tools]
        assert job.make({"mics.sn-top.tools": row}, version=version, step="clean", title="a row") is None
        assert value(session, "mics.sn-top.tools.gate.on") is True

    def test_what_was_set_by_hand_before(self, session):
        """Stays: a finding is done without its strip, and told as left; one that is about nothing else is left whole."""
        apply(session.pk, {TRIM: -3.0, "mics.sn-top.tools.gate.on": True}, step="level", title="by hand")
        job, plan = Unattended(session.pk), Session.objects.get(pk=session.pk).plan
        row = [tool.to_json() for tool in plan.mic("sn-top").tools]
        both = {"mics.sn-top.level_db": 1.0, "mics.sn-top.trim_db": -1.0, "mics.kd-in.trim_db": -1.0}
        kept = job.but_by_hand(Finding("level", "k", "", "Levels", "", both), plan)
        assert kept.changes == {"mics.kd-in.trim_db": -1.0}
        other_tool = [each | {"attack_db": 2.0} if each["kind"] == "shaper" else each for each in row]
        free = Finding("punch", "k", "", "Shaper", "", {"mics.sn-top.tools": other_tool})
        assert job.but_by_hand(free, plan) is free
        gate_off = [each | {"on": False} if each["kind"] == "gate" else each for each in row]
        assert job.but_by_hand(Finding("clean", "k", "", "Gate", "", {"mics.sn-top.tools": gate_off}), plan) is None
        assert job.left == ["Levels (SN top)", "Gate"]

    def test_each_note_tells_its_own(self, session):
        """Where one Move did several notes, each says what was measured of its own mic."""
        job = Unattended(session.pk)
        trims = {"sn-top": -3.0, "kd-in": 2.0}
        rows = [
            Finding(
                "level",
                f"level:trim:{mic}",
                mic,
                f"{mic}: trim",
                f"{mic} was measured",
                {f"mics.{mic}.trim_db": db},
                kind="Trims",
                short=mic,
            )
            for mic, db in trims.items()
        ]
        move = job.accept(rows, job.session().version, "first choice")
        assert move.measured == "sn-top: sn-top was measured kd-in: kd-in was measured"
        told = {
            n.finding.place: n.finding.evidence
            for n in notes("level", job.session(), Measure(job.session()))
            if n.state == "done"
        }
        assert {mic: told[mic] for mic in trims} == {mic: f"{mic} was measured" for mic in trims}

    def test_stopped(self, session):
        """Between two steps."""
        with pytest.raises(CancelledError):
            Unattended(session.pk, lambda: True)


class TestProposing:
    """Everything proposed, and a hand in between."""

    @pytest.fixture
    def hand(self, session, monkeypatch):
        """Somebody who sets the snare's trim whenever a step has been measured and before its notes are done, each time otherwise."""
        found, said = proposing.find_part, []

        def find_part(step, part, measure):
            out = found(step, part, measure)
            if len(said) < 30:
                said.append(-1.0 - 0.5 * len(said))
                apply(session.pk, {TRIM: said[-1]}, step="level", title="by hand")
            return out

        monkeypatch.setattr(proposing, "find_part", find_part)
        return said

    @pytest.mark.long
    def test_a_hand_goes_first(self, session, hand):
        """What was set last stays; the rest is proposed."""
        done = proposing.propose_all(session.pk)
        assert len(hand) > 5
        assert value(session, TRIM) == hand[-1]
        mine = {move.number for move in done.moves}
        theirs = session.moves.exclude(number__in=mine)
        assert theirs.count() == len(hand)
        assert all(move.state == Move.DONE for move in session.moves.all())
        assert len(done.moves) > 5
        assert not any(path == TRIM for move in done.moves for path in move.after)

    @pytest.mark.long
    def test_it_calls_nothing_changed_that_it_did_itself(self, session):
        """A mic's row is gated first and equalised later, the kit's level is set thrice: no note says that somebody changed it, until somebody does."""
        proposing.propose_all(session.pk)
        session.refresh_from_db()

        def changed():
            measure = Measure(session)
            return [n.finding.key for step in proposing.ORDER for n in notes(step, session, measure) if n.changed]

        assert changed() == []
        cleaned = next(m for m in session.moves.filter(step="clean") if any(".tools" in p for p in m.after))
        mic = next(p for p in cleaned.after if ".tools" in p).split(".")[1]
        tool = next(tool for tool in session.plan.mic(mic).tools if tool.kind in DEPTH and tool.on)
        place = f"mics.{mic}.tools.{tool.id}.{DEPTH[tool.kind]}"
        apply(session.pk, {place: moves.change.get(session.plan, place) - 3.0}, step="clean", title="by hand")
        session.refresh_from_db()
        (key,) = changed()
        assert (key.split(":")[0], key.split(":")[-1]) == ("clean", mic)

    @pytest.mark.long
    def test_the_kit_is_begun_again(self, session, monkeypatch):
        """On what was set meanwhile, which it leaves alone."""
        worked_out, tries = kit_solver.worked_out, []

        def disturbed(mine, plan, on_progress, cancelled):
            out = worked_out(mine, plan, on_progress, cancelled)
            tries.append(mine.version)
            if len(tries) == 1:
                apply(session.pk, {LEVEL: -7.5}, step="blend", title="by hand")
            return out

        monkeypatch.setattr(kit_solver, "worked_out", disturbed)
        kit_solver.settle(Unattended(session.pk))
        assert tries == [0, 1]
        assert value(session, LEVEL) == -7.5

    def test_a_part_that_was_set_meanwhile(self, session, monkeypatch):
        """Stays; the rest of a correction is made, and says that something is missing of it; of what is theirs alone nothing is made."""
        job = Unattended(session.pk)
        apply(session.pk, {LEVEL: -7.5}, step="blend", title="by hand")
        both = kit_solver.ProposedMove({LEVEL: -1.0, "kit.level_db": -2.0}, "softer", "Wanted: less.")
        theirs = kit_solver.ProposedMove({LEVEL: -3.0}, "snare softer", "Wanted: less.")
        monkeypatch.setattr(kit_solver, "worked_out", lambda *_: [both, theirs])
        (made,) = kit_solver.settle(job)
        assert made.after == {"kit.level_db": -2.0}
        assert made.measured == f"{kit_solver.WITHOUT} Wanted: less."
        assert job.left == ["snare softer"]
        assert value(session, LEVEL) == -7.5

    def test_the_kit_never_comes_to_rest(self, session, monkeypatch):
        """It says so, and has changed nothing."""

        def disturbed(mine, plan, on_progress, cancelled):
            apply(session.pk, {LEVEL: -float(mine.version) - 1.0}, step="blend", title="by hand")
            return [kit_solver.ProposedMove({"kit.level_db": -9.0}, "softer", "")]

        monkeypatch.setattr(kit_solver, "worked_out", disturbed)
        with pytest.raises(StaleError, match="again and again"):
            kit_solver.settle(Unattended(session.pk))
        assert value(session, "kit.level_db") == 0.0
        assert set(session.moves.values_list("title", flat=True)) == {"by hand"}
