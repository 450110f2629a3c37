"""Long work, shown in one place on every page: how far it is, how long it will take, stop it, start it again."""

from django.http import HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from arkund.studio.jobs import runner
from arkund.studio.models import Job
from arkund.studio.services.access import jobs_of

MOST = 20


def _row(job: Job) -> dict:
    return {
        "id": job.pk,
        "kind": job.kind,
        "title": job.title,
        "state": job.state,
        "progress": job.progress,
        "remaining_s": None if job.remaining_s is None else round(job.remaining_s, 1),
        "message": job.message,
        "quiet": job.quiet,
        "result": job.result,
        "session": job.session_id,
        "session_name": job.session.name if job.session else "",
    }


def jobs(request: HttpRequest) -> JsonResponse:
    """Return what is under way, and what failed and was not yet put aside; newest first."""
    rows = (
        jobs_of(request)
        .select_related("session")
        .filter(state__in=(*Job.OPEN, Job.FAILED))
        .exclude(cancel=True, quiet=True)
    )
    return JsonResponse({"jobs": [_row(job) for job in rows[:MOST]]})


def job(request: HttpRequest, job_id: int) -> JsonResponse:
    """Return how far one job has come."""
    return JsonResponse(_row(get_object_or_404(jobs_of(request).select_related("session"), pk=job_id)))


@require_POST
def cancel(request: HttpRequest, job_id: int) -> JsonResponse:
    """Ask long work to stop."""
    return JsonResponse({"cancelled": bool(runner.cancel(jobs_of(request).filter(pk=job_id)))})


@require_POST
def retry(request: HttpRequest, job_id: int) -> JsonResponse:
    """Start work again that failed or was cancelled."""
    get_object_or_404(jobs_of(request), pk=job_id)
    runner.settle_gone()
    return JsonResponse({"job": runner.retry(job_id).pk})


@require_POST
def dismiss(request: HttpRequest, job_id: int) -> JsonResponse:
    """Put failed work aside."""
    return JsonResponse({"dismissed": bool(runner.put_aside(jobs_of(request).filter(pk=job_id)))})
