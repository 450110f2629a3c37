"""Long work in threads of the server process, with its row in the database for progress, cancel and restart."""

import logging
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from time import monotonic

from django.db import close_old_connections
from django.utils import timezone

from arkund.core.errors import ArkundError, CancelledError
from arkund.studio.models import Job

WRITE_EVERY_S = 0.2
log = logging.getLogger(__name__)
_pool = ThreadPoolExecutor(2, thread_name_prefix="job")


class Handle:
    """What a job's work is given: report progress, ask whether to stop."""

    def __init__(self, job_id: int) -> None:
        self.job_id, self._written, self._stop = job_id, 0.0, False

    def progress(self, share: float, text: str = "") -> None:
        """Write progress, at most a few times a second."""
        now = monotonic()
        if now - self._written < WRITE_EVERY_S and share < 1.0:
            return
        self._written = now
        rows = Job.objects.filter(pk=self.job_id)
        rows.update(progress=min(share, 1.0), message=text[:600], beat=timezone.now())
        self._stop = rows.values_list("cancel", flat=True).first() or False

    def cancelled(self) -> bool:
        """Say whether someone asked to stop."""
        return self._stop


def start(kind: str, work: Callable[[Handle], dict], session_id: int | None = None) -> Job:
    """Queue work; its result is kept as the job's result, its failure as the job's message."""
    job = Job.objects.create(kind=kind, session_id=session_id, process=os.getpid())
    _pool.submit(_run, job.pk, work)
    return job


def _run(job_id: int, work: Callable[[Handle], dict]) -> None:
    close_old_connections()
    rows = Job.objects.filter(pk=job_id)
    try:
        if rows.values_list("cancel", flat=True).first():
            raise CancelledError("Cancelled before it began.")
        rows.update(state=Job.RUNNING, beat=timezone.now())
        result = work(Handle(job_id))
        rows.update(state=Job.DONE, progress=1.0, message="", result=result, beat=timezone.now())
    except CancelledError as error:
        rows.update(state=Job.CANCELLED, message=str(error)[:600])
    except ArkundError as error:
        rows.update(state=Job.FAILED, message=str(error)[:600])
    except Exception:
        log.exception("job %s failed", job_id)
        rows.update(
            state=Job.FAILED,
            message="Something failed inside Arkund; the server's log says what. Nothing was changed.",
        )
    finally:
        close_old_connections()


def settle_orphans() -> int:
    """Mark what was running when the process died; returns how many."""
    rows = Job.objects.filter(state__in=(Job.WAITING, Job.RUNNING))
    return rows.update(
        state=Job.FAILED,
        message="The application was stopped meanwhile; nothing half-made was kept. Start it again.",
    )
