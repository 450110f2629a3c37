"""Long work: its state in the database, cancel, start again, and what a restart makes of it."""

import os
import shutil
import subprocess
import threading
from datetime import timedelta

import psutil
import pytest
from django.test import Client
from django.utils import timezone

from arkund.core.errors import CancelledError, SettingsError
from arkund.core.findings import Finding
from arkund.studio.jobs import background, kinds, runner
from arkund.studio.models import Job, Measured, Session
from arkund.studio.services import housekeeping, proposing, store, whole
from arkund.studio.services.recordings import recordings_of
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db


@pytest.fixture(autouse=True)
def at_once(monkeypatch):
    """Jobs run where they are started, so that a test sees them end."""
    monkeypatch.setattr(runner, "_submit", lambda job: runner.run(job.pk))
    monkeypatch.setattr(background, "SETTLE_S", 0.0)


@pytest.fixture
def kind(monkeypatch):
    """Register work under the kind ``test``."""

    def register(work):
        monkeypatch.setitem(kinds.KINDS, "test", kinds.Kind(work))

    return register


def ended(job: Job) -> Job:
    job.refresh_from_db()
    return job


def dead_process() -> str:
    """Return the mark of a process that is gone."""
    gone = subprocess.Popen(["true"])
    gone.wait()
    return f"{gone.pid}@1.00"


class TestRun:
    """Done, failed or cancelled: the row says it."""

    def test_done(self, kind):
        """Arguments are given; result and progress are kept."""
        kind(lambda handle: handle.progress(0.5, "half") or {"answer": 2 * handle.job.arguments["n"]})
        job = ended(runner.start("test", {"n": 21}, "a test"))
        assert (job.state, job.progress, job.result, job.tries) == (Job.DONE, 1.0, {"answer": 42}, 1)

    def test_bad_input_says_why(self, kind):
        """Arkund's own errors are shown as they are."""

        def work(handle):
            raise SettingsError("bpm: 0 is outside.")

        kind(work)
        job = ended(runner.start("test", {}, "a test"))
        assert (job.state, job.message) == (Job.FAILED, "bpm: 0 is outside.")

    def test_our_failure_tells_no_secrets(self, kind):
        """Anything else is logged, not shown."""

        def work(handle):
            raise RuntimeError("/secret/path")

        kind(work)
        job = ended(runner.start("test", {}, "a test"))
        assert job.state == Job.FAILED
        assert "secret" not in job.message

    def test_cancel_while_running(self, kind):
        """The work learns of it at its next report."""

        def work(handle):
            Job.objects.filter(pk=handle.job.pk).update(cancel=True)
            handle.progress(1.0)
            if handle.cancelled():
                raise CancelledError("stopped")

        kind(work)
        assert ended(runner.start("test", {}, "a test")).state == Job.CANCELLED

    def test_a_deleted_session_stops_its_work(self, kind, session):
        """The row goes with the session; the work is told to stop."""
        seen = []

        def work(handle):
            Session.objects.all().delete()
            handle.progress(1.0)
            seen.append(handle.cancelled())
            return {}

        kind(work)
        runner.start("test", {}, "a test", session.pk)
        assert seen == [True]

    def test_cancelled_before_it_began(self, kind):
        """Then nothing is done at all."""
        kind(lambda handle: pytest.fail("must not run"))
        job = Job.objects.create(kind="test", cancel=True)
        runner.run(job.pk)
        assert ended(job).state == Job.CANCELLED

    def test_start_again(self, kind):
        """What failed can be started again, with the same arguments; what is done cannot."""
        failing = [True]

        def work(handle):
            if failing.pop() if failing else False:
                raise SettingsError("not now")
            return handle.job.arguments

        kind(work)
        job = ended(runner.start("test", {"n": 1}, "a test"))
        assert job.state == Job.FAILED
        runner.retry(job.pk)
        assert (ended(job).state, job.result) == (Job.DONE, {"n": 1})
        with pytest.raises(SettingsError, match="only what failed or was cancelled"):
            runner.retry(job.pk)

    def test_remaining_time(self):
        """A quarter took 10 s: 30 s are left; at the very start nobody knows."""
        now = timezone.now()
        job = Job(kind="test", state=Job.RUNNING, progress=0.25, began=now - timedelta(seconds=10), beat=now)
        assert job.remaining_s == pytest.approx(30.0)
        job.progress = 0.01
        assert job.remaining_s is None


class TestPropose:
    """Every first choice as a job."""

    def test_asks_first_which_mic_is_which(self, session, monkeypatch):
        """Where two mics look swapped nothing is done on top of it; who wants it all the same says so."""
        swapped = Finding("load", "load:swap:a:b", "a", "A and B look swapped", "")
        sides = Finding(
            "load", "load:sides:c", "c", "C and D look swapped", ""
        )  # of a pair's seat, and no doubt about what a mic is
        monkeypatch.setattr(proposing, "find", lambda step, measure: [swapped, sides] if step == "load" else [])
        asked = ended(runner.start("propose", {}, "every first choice", session.pk))
        (question,) = asked.result["ask"]
        assert (asked.state, asked.result["moves"]) == (Job.DONE, 0)
        assert (question["key"], question["title"], question["can_do"]) == (swapped.key, swapped.title, False)
        assert not session.moves.exists()
        monkeypatch.setattr(proposing, "propose_all", lambda *_: proposing.Proposed([1, 2], ["Trim"]))
        anyway = ended(runner.start("propose", {"anyway": True}, "every first choice", session.pk))
        assert (anyway.result["moves"], anyway.result["title"]) == (2, "2 deeds, told under What I did")
        assert "Left as you set it: Trim. still off" in anyway.result["said"]
        proposing.leave(session.pk, swapped, "they are meant so")
        assert ended(runner.start("propose", {}, "every first choice", session.pk)).result["moves"] == 2


class TestGoingDown:
    """The application stops while work is under way."""

    @pytest.mark.parametrize(
        ("said", "main_thread"),
        [
            ("something of it is gone", threading.Thread),
            ("cannot schedule new futures after interpreter shutdown", threading.main_thread),
            ("cannot schedule new futures after shutdown", threading.main_thread),
        ],
    )
    def test_work_is_left_open(self, kind, monkeypatch, said, main_thread):
        """What fails because everything around it is gone is no failure: the next start takes it up again."""

        def gone(handle):
            raise RuntimeError(said)

        kind(gone)
        monkeypatch.setattr(runner.threading, "main_thread", main_thread)
        assert ended(runner.start("test", {}, "a test")).state == Job.RUNNING


class TestResume:
    """What a dead process left in the queue is taken up."""

    def test_interrupted_work_is_done(self, kind):
        """Waiting or running: it is begun anew, in the order in which it was asked for."""
        order = []
        kind(lambda handle: order.append(handle.job.pk) or {})
        gone = dead_process()
        jobs = [Job.objects.create(kind="test", state=state, owner=gone) for state in (Job.RUNNING, Job.WAITING)]
        runner.resume()
        assert order == [job.pk for job in jobs]
        assert [ended(job).state for job in jobs] == [Job.DONE, Job.DONE]

    def test_at_the_next_start(self, kind):
        """What the start clears up leaves interrupted work to be taken up, and done."""
        kind(lambda handle: {"done": True})
        job = Job.objects.create(kind="test", state=Job.RUNNING, owner=dead_process())
        housekeeping.clear_up()
        assert ended(job).state == Job.DONE

    def test_not_for_ever(self, kind):
        """Work that stopped the application twice is offered, not begun."""
        kind(lambda handle: pytest.fail("must not run"))
        job = Job.objects.create(kind="test", state=Job.RUNNING, owner=dead_process(), tries=2)
        runner.resume()
        assert ended(job).state == Job.FAILED
        assert "Start it again" in job.message

    def test_cancelled_work_stays_cancelled(self, kind):
        """Nobody wants it any more."""
        kind(lambda handle: pytest.fail("must not run"))
        job = Job.objects.create(kind="test", state=Job.RUNNING, owner=dead_process(), cancel=True)
        runner.resume()
        assert ended(job).state == Job.FAILED

    def test_another_living_process_is_left_alone(self, kind):
        """A second application on the same data does not take the first one's work."""
        kind(lambda handle: pytest.fail("must not run"))
        parent = f"{os.getppid()}@{psutil.Process(os.getppid()).create_time():.2f}"
        job = Job.objects.create(kind="test", state=Job.RUNNING, owner=parent)
        assert runner.resume() == []
        assert ended(job).state == Job.RUNNING

    def test_a_number_that_was_given_away_again(self, kind):
        """Another process that got the dead one's number is another: the work is taken up."""
        kind(lambda handle: {})
        job = Job.objects.create(kind="test", state=Job.RUNNING, owner=f"{os.getppid()}@1.00")
        assert runner.resume() == [job]
        assert ended(job).state == Job.DONE

    def test_what_a_dead_process_left_can_be_dealt_with(self, kind):
        """Cancel, start again and put aside do what they say, although nobody is there to be asked."""
        kind(lambda handle: {"again": True})
        gone, client = dead_process(), Client()
        jobs = [Job.objects.create(kind="test", state=Job.RUNNING, owner=gone) for _ in range(3)]
        for job, what in zip(jobs, ("cancel", "retry", "dismiss"), strict=True):
            assert client.post(f"/jobs/{job.pk}/{what}").status_code == 200
        assert [ended(job).state for job in jobs] == [Job.CANCELLED, Job.DONE, Job.CANCELLED]

    def test_an_import_goes_on_after_its_session_was_made(self, session):
        """It is not imported twice: only the hits are found."""
        given = {"folder": "gone", "name": "x", "bpm": None, "meter": "4/4"}
        job = Job.objects.create(
            kind="import", arguments=given, session=session, state=Job.RUNNING, owner=dead_process()
        )
        runner.resume()
        assert ended(job).state == Job.DONE, job.message
        assert Session.objects.count() == 1

    def test_an_import_begins_anew_before(self, db, folder):
        """The uploaded folder is still there, and goes when the session stands."""
        uploaded = store.incoming_folder() / "abc"
        shutil.copytree(folder, uploaded / "Song")
        given = {"folder": "abc", "name": "Song", "bpm": 120.0, "meter": "4/4"}
        job = Job.objects.create(kind="import", arguments=given, state=Job.RUNNING, owner=dead_process())
        runner.resume()
        assert ended(job).state == Job.DONE, job.message
        assert Session.objects.get().name == "Song"
        assert not uploaded.exists()


class TestWhole:
    """The whole song, measured behind everything else."""

    def test_what_it_reaches_and_looks_like(self, session):
        """The figures are those of the rendered song; the waveform holds its extremes."""
        import numpy as np

        from arkund.core.render.render import render

        data = whole.measure(session)
        kit = render(session.plan, recordings_of(session), (0, recordings_of(session).length("take-1")))
        assert data["kit"]["peak_db"] == pytest.approx(20 * np.log10(np.abs(kit).max()), abs=0.001)
        assert whole.found(session, session.plan) == data
        columns = np.frombuffer(
            whole.columns(session, whole.key_of(session, session.plan), "kit", 256).read_bytes(), np.int8
        ).reshape(-1, 2)
        assert len(columns) == -(-len(kit) // 256)
        part = kit[256 * 500 : 256 * 501]
        assert columns[500].tolist() == [np.floor(part.min() * 127), np.ceil(part.max() * 127)]

    def test_only_the_present_one_is_kept(self, session):
        """A change makes it unknown; measuring anew replaces it."""
        whole.measure(session)
        apply(session.pk, {f"mics.{session.plan.mics[0].id}.trim_db": -3.0}, step="level", title="down")
        session.refresh_from_db()
        assert whole.found(session, session.plan) is None
        whole.measure(session)
        assert len(list((store.whole_folder() / str(session.pk)).iterdir())) == 1
        assert Measured.objects.filter(pk=whole.key_of(session, session.plan)).exists()

    def test_lost_files_are_made_again(self, session):
        """Whoever deletes the folder costs only time."""
        whole.measure(session)
        shutil.rmtree(store.whole_folder())
        assert whole.found(session, session.plan) is None
        assert "kit" in whole.measure(session)

    def test_bad_names(self, session):
        """No file outside the song's own is given away."""
        for key, output, level in (("../x", "kit", 256), ("ab", "kit", 256), ("ab", "kit", 7)):
            with pytest.raises(SettingsError):
                whole.columns(session, key, output, level)

    def test_a_newer_change_overtakes(self, session, settings, monkeypatch):
        """One job per version; an older one that still runs is told to stop."""
        settings.BACKGROUND = True
        monkeypatch.setattr(runner, "_submit", lambda job: None)
        background.keep_whole(session)
        background.keep_whole(session)
        first = Job.objects.get(kind="whole")
        apply(session.pk, {f"mics.{session.plan.mics[0].id}.trim_db": -3.0}, step="level", title="down")
        session.refresh_from_db()
        background.keep_whole(session)
        assert ended(first).cancel
        assert Job.objects.filter(kind="whole", cancel=False).get().arguments == {"version": session.version}


class TestJobPages:
    """The list that every page shows."""

    def test_lists_what_is_under_way_or_stopped(self, client, kind, session):
        """Done and cancelled work is gone from it; failed work stays until put aside."""
        kind(lambda handle: {})
        Job.objects.create(kind="test", title="done", state=Job.DONE)
        Job.objects.create(kind="test", title="going", state=Job.RUNNING, session=session)
        failed = Job.objects.create(kind="test", title="stuck", state=Job.FAILED)
        rows = client.get("/jobs").json()["jobs"]
        assert [(row["title"], row["session_name"]) for row in rows] == [("stuck", ""), ("going", session.name)]
        client.post(f"/jobs/{failed.pk}/dismiss")
        assert [row["title"] for row in client.get("/jobs").json()["jobs"]] == ["going"]
        client.post(f"/jobs/{failed.pk}/retry")
        assert ended(failed).state == Job.DONE

    def test_cancel(self, client):
        """Only what still runs can be cancelled."""
        running = Job.objects.create(kind="print", state=Job.RUNNING)
        done = Job.objects.create(kind="print", state=Job.DONE)
        assert client.post(f"/jobs/{running.pk}/cancel").json() == {"cancelled": True}
        assert client.post(f"/jobs/{done.pk}/cancel").json() == {"cancelled": False}


class TestFormerKinds:
    """Work that an update no longer knows."""

    def test_said_and_put_aside(self, session):
        """It fails in words, and is put aside like any other."""
        job = Job.objects.create(kind="settle", title="of before", session=session, owner="")
        runner.run(job.pk)
        job.refresh_from_db()
        assert (job.state, "no longer does" in job.message) == (Job.FAILED, True)
        assert runner.put_aside(Job.objects.filter(pk=job.pk)) == 1
