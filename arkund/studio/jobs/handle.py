"""What a job's work is given, and what a kind of work is."""

from collections.abc import Callable
from dataclasses import dataclass
from time import monotonic

from django.utils import timezone

from arkund.studio.models import Job

WRITE_EVERY_S = 0.2


class Handle:
    """What a job's work is given: its row, and ways to report progress, to ask whether to stop and to keep what is done."""

    def __init__(self, job: Job) -> None:
        self.job, self._written, self._stop = job, 0.0, job.cancel

    def progress(self, share: float, text: str = "") -> None:
        """Write progress, at most a few times a second."""
        now = monotonic()
        if now - self._written < WRITE_EVERY_S and share < 1.0:
            return
        self._written = now
        rows = Job.objects.filter(pk=self.job.pk)
        rows.update(progress=min(share, 1.0), message=text[:600], beat=timezone.now())
        self._stop = rows.values_list("cancel", flat=True).first() is not False  # a deleted row stops too

    def cancelled(self) -> bool:
        """Say whether someone asked to stop."""
        return self._stop

    def keep(self, session_id: int | None = None, **result) -> None:
        """Keep a part of the result, so that the work can go on from there after a restart."""
        self.job.result |= result
        self.job.session_id = session_id or self.job.session_id
        Job.objects.filter(pk=self.job.pk).update(result=self.job.result, session_id=self.job.session_id)


@dataclass(frozen=True, slots=True)
class Kind:
    """A kind of work: what it does, whether it stands back behind everything else, and whether it works on an upload."""

    run: Callable[[Handle], dict]
    quiet: bool = False
    uploaded: bool = False
