"""What is cleared up when the application starts: left-overs of work that a crash cut off."""

import shutil

from arkund.studio.jobs import runner
from arkund.studio.models import Job, MicRecording, Session
from arkund.studio.services import store


def clear_up() -> None:
    """Take up interrupted jobs, and delete temporary files and audio that neither a session nor a job uses."""
    open_jobs = Job.objects.filter(state__in=(*Job.OPEN, Job.FAILED))
    waited_for = {job.arguments.get("folder") for job in open_jobs}
    for path in store.incoming_folder().iterdir():
        if path.name not in waited_for:
            shutil.rmtree(path, ignore_errors=True) if path.is_dir() else path.unlink(missing_ok=True)
    shutil.rmtree(store.cache_folder(), ignore_errors=True)
    used = set(MicRecording.objects.values_list("sha256", flat=True))
    if store.audio_folder().is_dir():
        for path in store.audio_folder().iterdir():
            if path.name.startswith(".new-") or path.stem not in used:
                path.unlink(missing_ok=True)
    if store.prints_folder().is_dir():
        for path in store.prints_folder().rglob(".printing-*"):
            shutil.rmtree(path, ignore_errors=True)
    sessions = {str(pk) for pk in Session.objects.values_list("pk", flat=True)}
    if store.whole_folder().is_dir():
        for path in store.whole_folder().iterdir():
            if path.name not in sessions:
                shutil.rmtree(path, ignore_errors=True)
    runner.resume()
