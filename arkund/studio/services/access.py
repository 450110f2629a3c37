"""Who may see which session. Without logins (on the loopback address) everybody is the engineer at this machine and sees all."""

from django.conf import settings
from django.db.models import QuerySet
from django.http import Http404, HttpRequest

from arkund.studio.models import Job, Session


def sessions_of(request: HttpRequest) -> QuerySet[Session]:
    """Return the sessions that a request may see: with logins, those of its user; the studio's keeper sees all."""
    if not settings.LOGIN_REQUIRED or request.user.is_staff:
        return Session.objects.all()
    return Session.objects.filter(members=request.user)


def session_or_404(request: HttpRequest, session_id: int) -> Session:
    """Return a ready session that the request may see; what it may not see is not there."""
    session = sessions_of(request).filter(pk=session_id, ready=True).first()
    if session is None:
        raise Http404("No such session.")
    return session


def jobs_of(request: HttpRequest) -> QuerySet[Job]:
    """Return the jobs that a request may see: those of its sessions and those that its user started."""
    if not settings.LOGIN_REQUIRED or request.user.is_staff:
        return Job.objects.all()
    return Job.objects.filter(session__in=sessions_of(request)) | Job.objects.filter(user=request.user)


def user_of(request: HttpRequest) -> int | None:
    """Return the id of who asks; None without logins."""
    return request.user.pk if settings.LOGIN_REQUIRED else None
