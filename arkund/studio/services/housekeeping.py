"""What is cleared up when the application starts: left-overs of work that a crash cut off. Only the data folder's owner does it."""

import shutil
from pathlib import Path

from arkund.studio.jobs import runner
from arkund.studio.models import Job, MicRecording, Session
from arkund.studio.services import cards, print_records, quarantine, store


def clear_up() -> None:
    """Delete what crashes left unfinished, put aside what nobody refers to, unless another process is writing just now, and take up interrupted jobs."""
    runner.put_aside_old()
    with store.undisturbed() as alone:
        if alone:
            for path in unfinished():
                delete(path)
            print_records.claim()
            for path in nobodys():
                quarantine.put_aside(path)
    cards.refresh()
    runner.resume()


def unfinished() -> list[Path]:
    """Return temporary files and folders, and what was only worked out: nothing that cannot be had again."""
    open_jobs = Job.objects.filter(state__in=(*Job.OPEN, Job.FAILED))
    waited_for = {job.arguments.get("folder") for job in open_jobs}
    sessions = {str(pk) for pk in Session.objects.values_list("pk", flat=True)}
    used = set(MicRecording.objects.values_list("digest", flat=True))
    out = [path for path in _inside(store.incoming_folder()) if path.name not in waited_for]
    out += [path for path in _inside(store.audio_folder()) if path.name.startswith(".new-")]
    out += [path for path in _inside(store.peaks_folder()) if path.name.split("-")[0] not in used]
    out += [path for path in _inside(store.whole_folder()) if path.name not in sessions]
    for folder in (store.prints_folder(), store.archives_folder(), store.whole_folder()):
        out += [path for pattern in (".printing-*", ".new-*") for path in folder.rglob(pattern)]
    return out + _inside(store.work_folder())


def nobodys() -> list[Path]:
    """Return whole recordings and prints that neither a session nor a job refers to."""
    used = set(MicRecording.objects.values_list("digest", flat=True))
    out = [path for path in store.audio_folder().glob("*.npy") if path.name[0] != "." and path.stem not in used]
    return out + print_records.unclaimed()


def remove(session: Session) -> None:
    """Delete a session; its card, its prints and the recordings that no other session uses are put aside (at the next start where somebody is writing just
    now), and stay in its users' shares as long as they lie there.
    """
    owners = list(session.members.values_list("pk", flat=True))
    prints = [Path(folder) for folder in session.prints.values_list("folder", flat=True)]
    digests = set(MicRecording.objects.filter(take__session=session).values_list("digest", flat=True))
    cards.put_aside(session)
    session.delete()
    with store.undisturbed() as alone:
        still = set(MicRecording.objects.filter(digest__in=digests).values_list("digest", flat=True))
        for digest in digests - still if alone else ():
            if (path := store.audio_path(digest)).exists():
                quarantine.put_aside(path, owners)
        for path in [each for made in prints for each in (made, made.with_suffix(".zip"))] if alone else ():
            if path.exists() and path.is_relative_to(store.prints_folder()):
                quarantine.put_aside(path, owners)


def _inside(folder: Path) -> list[Path]:
    return list(folder.iterdir()) if folder.is_dir() else []


def delete(path: Path) -> None:
    """Delete a file or a folder with all that is in it."""
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
