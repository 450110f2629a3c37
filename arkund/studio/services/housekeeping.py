"""What is cleared up when the application starts: left-overs of work that a crash cut off."""

import shutil
from pathlib import Path

from arkund.studio.jobs import runner
from arkund.studio.models import Job, MicRecording, Print, Session
from arkund.studio.services import store


def clear_up() -> None:
    """Delete what crashes left behind, unless another process is writing just now, and take up interrupted jobs."""
    with store.undisturbed() as alone:
        if alone:
            for path in left_overs():
                delete(path)
    runner.resume()


def left_overs() -> list[Path]:
    """Return temporary files and folders, and audio and pictures that neither a session nor a job uses."""
    open_jobs = Job.objects.filter(state__in=(*Job.OPEN, Job.FAILED))
    waited_for = {job.arguments.get("folder") for job in open_jobs}
    used = set(MicRecording.objects.values_list("digest", flat=True))
    sessions = {str(pk) for pk in Session.objects.values_list("pk", flat=True)}
    out = [path for path in _inside(store.incoming_folder()) if path.name not in waited_for]
    out += [path for path in _inside(store.audio_folder()) if path.name.startswith(".new-") or path.stem not in used]
    out += [path for path in _inside(store.peaks_folder()) if path.name.split("-")[0] not in used]
    out += [path for path in _inside(store.whole_folder()) if path.name not in sessions]
    for folder in (store.prints_folder(), store.archives_folder(), store.whole_folder()):
        out += [path for pattern in (".printing-*", ".new-*") for path in folder.rglob(pattern)]
    out += _inside(store.work_folder())
    printed = set(Print.objects.values_list("folder", flat=True))
    out += [path for path in store.prints_folder().glob("*/*") if str(path.with_suffix("")) not in printed]
    if store.cache_folder().is_dir():
        out.append(store.cache_folder())
    return out


def _inside(folder: Path) -> list[Path]:
    return list(folder.iterdir()) if folder.is_dir() else []


def delete(path: Path) -> None:
    """Delete a file or a folder with all that is in it."""
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
