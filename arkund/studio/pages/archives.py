"""Take a whole session along as one file, and bring one back."""

import uuid

from django.http import FileResponse, Http404, HttpRequest, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from arkund.studio.jobs import runner
from arkund.studio.models import Job
from arkund.studio.services import store
from arkund.studio.services.access import jobs_of, session_or_404, user_of


@require_POST
def start(request: HttpRequest, session_id: int) -> JsonResponse:
    """Start writing an archive as a job; its result names where it can be fetched."""
    session = session_or_404(request, session_id)
    given = {"file": f"{session.pk}-{uuid.uuid4().hex[:12]}.zip"}
    return JsonResponse(
        {"job": runner.start("archive", given, f"archive of {session.name}", session.pk, user_of(request)).pk}
    )


def fetch(request: HttpRequest, session_id: int, job_id: int) -> FileResponse:
    """Download an archive that was written."""
    session = session_or_404(request, session_id)
    job = get_object_or_404(jobs_of(request), pk=job_id, session=session, kind="archive", state=Job.DONE)
    path = store.archives_folder() / job.arguments["file"]
    if not path.is_file():
        raise Http404("It was fetched long ago; write it again.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=f"{session.name} v{session.version}.arkund.zip")
