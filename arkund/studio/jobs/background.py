"""Work that nobody asked for but everybody soon wants: the whole song, measured again after each change of its Plan."""

from time import monotonic, sleep

from django.conf import settings

from arkund.core.errors import CancelledError
from arkund.studio.jobs import runner
from arkund.studio.jobs.handle import Handle
from arkund.studio.models import Job, Session
from arkund.studio.services import whole

SETTLE_S = 1.5  # a Plan that still changes is not measured


def keep_whole(session: Session) -> None:
    """See to it that the whole song becomes known as the Plan stands; what is under way for a former Plan stops."""
    if not settings.BACKGROUND or whole.found(session, session.plan) is not None:
        return
    mine = Job.objects.filter(session=session, kind="whole")
    if mine.filter(state__in=Job.OPEN, cancel=False, arguments__version=session.version).exists():
        return
    mine.filter(state__in=Job.OPEN).update(cancel=True)
    mine.exclude(state__in=Job.OPEN).delete()
    runner.start("whole", {"version": session.version}, "the whole song", session.pk)


def wait_until_settled(handle: Handle) -> None:
    """Wait a moment in case a newer change follows. Raises CancelledError."""
    until = monotonic() + SETTLE_S
    while monotonic() < until:
        sleep(0.3)
        handle.progress(0.0)
        if handle.cancelled():
            raise CancelledError("A newer change followed.")
