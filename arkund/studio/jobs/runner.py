"""Long work in threads of the server process: queued in the database, so that it survives a restart."""

import functools
import logging
import os
import shutil
import threading
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

from django.conf import settings
from django.db import close_old_connections
from django.db.models import QuerySet
from django.utils import timezone
from django.utils.module_loading import import_string

from arkund.core.errors import CancelledError, SettingsError, UnchangedError
from arkund.studio.jobs.fair_pool import FairPool
from arkund.studio.jobs.handle import Handle, Kind
from arkund.studio.models import Job
from arkund.studio.services import owner, store

MOST_TRIES = 2  # work that took the process down with it is not begun by itself for ever
FAILED_KEPT_DAYS = 7  # so long failed work can be started again with what was uploaded for it
NICENESS = 5  # of background work: it also holds the interpreter's lock now and then, and must not starve with it
STOPPED = "The application was stopped meanwhile; nothing half-made was kept. Start it again."
FAILED = "Something failed inside Arkund; the server's log says what. Nothing was changed."
log = logging.getLogger(__name__)
_pool = FairPool(2, "job")


def _nicely() -> None:
    """Let this thread stand back wherever the system can tell threads apart (Linux)."""
    try:
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), NICENESS)
    except (AttributeError, OSError):
        log.info("background work runs at the usual priority")


_quiet_pool = ThreadPoolExecutor(1, thread_name_prefix="quiet", initializer=_nicely)


def start(kind: str, arguments: dict, title: str, session_id: int | None = None, user_id: int | None = None) -> Job:
    """Queue work of a kind with arguments of plain data."""
    quiet = _kind(kind).quiet
    job = Job.objects.create(
        kind=kind,
        arguments=arguments,
        title=title[:200],
        session_id=session_id,
        user_id=user_id,
        owner=owner.mark(),
        quiet=quiet,
    )
    _submit(job)
    return job


def cancel(jobs: QuerySet[Job]) -> int:
    """Ask jobs to stop; those whose process is gone have stopped already. Return how many that were."""
    count = 0
    for job in jobs.filter(state__in=Job.OPEN):
        gone = {} if owner.alive(job.owner) else {"state": Job.CANCELLED, "message": STOPPED}
        count += Job.objects.filter(pk=job.pk, state__in=Job.OPEN).update(cancel=True, **gone)
        if gone:
            _forget_upload(job)
    return count


def put_aside(jobs: QuerySet[Job]) -> int:
    """Let failed jobs be, with what was uploaded for them. Return how many."""
    settle_gone()
    return _put_aside(jobs)


def _put_aside(jobs: QuerySet[Job]) -> int:
    count = 0
    for job in jobs.filter(state=Job.FAILED):
        count += Job.objects.filter(pk=job.pk, state=Job.FAILED).update(state=Job.CANCELLED)
        _forget_upload(job)
    return count


def put_aside_old() -> int:
    """Let work be that failed FAILED_KEPT_DAYS ago and longer, with what was uploaded for it: nobody is going to try it again. Return how many.

    What a process that is gone left open has not failed: :func:`resume` takes it up.
    """
    return _put_aside(Job.objects.filter(beat__lt=timezone.now() - timedelta(days=FAILED_KEPT_DAYS)))


def _forget_upload(job: Job) -> None:
    """Delete the upload of work that nobody wants any more."""
    if _kind(job.kind).uploaded:
        shutil.rmtree(store.incoming_folder() / job.arguments["folder"], ignore_errors=True)


def settle_gone() -> None:
    """Mark as failed what a process that is gone left open, so that it can be started again or put aside."""
    for job in Job.objects.filter(state__in=Job.OPEN):
        if not owner.alive(job.owner):
            Job.objects.filter(pk=job.pk, state__in=Job.OPEN).update(state=Job.FAILED, message=STOPPED)


def retry(job_id: int) -> Job:
    """Queue work again that failed or was cancelled. Raises SettingsError where it is neither."""
    rows = Job.objects.filter(pk=job_id, state__in=(Job.FAILED, Job.CANCELLED))
    if not rows.update(state=Job.WAITING, cancel=False, progress=0.0, message="", tries=0, owner=owner.mark()):
        raise SettingsError("job: only what failed or was cancelled can be started again.")
    job = Job.objects.get(pk=job_id)
    _submit(job)
    return job


def resume() -> list[Job]:
    """Take up what was waiting or running when another process died; what has been begun too often is marked as failed."""
    taken = []
    for job in Job.objects.filter(state__in=Job.OPEN).order_by("pk"):
        if owner.alive(job.owner):
            continue
        if job.cancel or job.tries >= MOST_TRIES:
            Job.objects.filter(pk=job.pk).update(state=Job.FAILED, message=STOPPED)
            continue
        Job.objects.filter(pk=job.pk).update(state=Job.WAITING, owner=owner.mark(), progress=0.0)
        job.refresh_from_db()
        taken.append(job)
    for job in taken:
        _submit(job)
    return taken


def _kind(name: str) -> Kind:
    """Return a kind of work. What kinds there are the application's settings say: their services start jobs themselves, and compute, so they come late."""
    return import_string(settings.JOB_KINDS).get(name, Kind(_of_a_former_version))


def _of_a_former_version(handle: Handle) -> dict:
    raise SettingsError(
        "This work is of a kind that this version no longer does: put it aside, and ask for it again on its page."
    )


def _submit(job: Job) -> None:
    if job.quiet:
        _quiet_pool.submit(run, job.pk)
    else:
        _pool.submit(job.user_id, functools.partial(run, job.pk))


def _going_down(error: Exception) -> bool:
    """Say whether the application ended around the work: threads that are not there any more take nothing."""
    refused = isinstance(error, RuntimeError) and "cannot schedule new futures" in str(error)
    return refused or not threading.main_thread().is_alive()


def run(job_id: int) -> None:
    """Do one job's work and write down how it ended."""
    close_old_connections()
    rows = Job.objects.filter(pk=job_id)
    try:
        job = rows.first()
        if job is None:
            return
        if job.cancel:
            raise CancelledError("Cancelled before it began.")
        now = timezone.now()
        rows.update(state=Job.RUNNING, began=now, beat=now, tries=job.tries + 1)
        result = _kind(job.kind).run(Handle(job))
        rows.update(state=Job.DONE, progress=1.0, message="", result=result, beat=timezone.now())
    except UnchangedError as error:
        rows.update(state=Job.DONE, progress=1.0, message="", result={"said": str(error)}, beat=timezone.now())
        _forget_upload(job)
    except CancelledError as error:
        rows.update(state=Job.CANCELLED, message=str(error)[:600])
        _forget_upload(job)
    except Exception as error:
        if _going_down(error):
            return  # the next start takes it up again
        said = store.refusal(error)
        if said is None:
            log.exception("job %s failed", job_id)
        rows.update(state=Job.FAILED, message=str(said)[:600] if said else FAILED)
    finally:
        close_old_connections()
