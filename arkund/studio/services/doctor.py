"""``arkund doctor``: does the data folder hold what the database says, and the other way round? What can be repaired, is."""

from collections.abc import Callable
from pathlib import Path

from django.db import connection

from arkund.core.errors import AudioError, SettingsError
from arkund.core.files import audio, checksum
from arkund.core.files.library import forget_opened
from arkund.studio.jobs import runner
from arkund.studio.models import Job, MicRecording, Move, Print, Session, Take
from arkund.studio.services import housekeeping, opening, owner, quarantine, store
from arkund.studio.services.complaint import Complaint

HEAL = "give the folder with the original files: arkund doctor --from FOLDER"
Progress = Callable[[float, str], None]


def examine(
    *, repair: bool, heal_from: Path | None = None, on_progress: Progress = lambda share, text: None
) -> list[Complaint]:
    """Check database, recordings, Plans, jobs, prints and left-overs, and repair them where asked.

    heal_from : a folder with original recordings; those that are missing or damaged are read from it again
    """
    with store.undisturbed() as alone:
        if repair and not alone:
            raise SettingsError("data folder: an import is writing just now; ask again when it is done.")
        out = _database()
        out += _recordings(repair, on_progress)
        lost = [] if heal_from is None else _healed(heal_from)
        out = [c for c in out if not any(digest[:12] in c.what for digest in lost)]
        out += [
            Complaint(f"recording {sha[:12]}: was missing", f"read again from {heal_from.name}", True) for sha in lost
        ]
        for session in Session.objects.all():
            out += _plan(session)
        out += _prints(repair) + _cards() + _jobs(repair)
        if alone:
            out += _left_overs(repair)
        return out + _put_aside(repair)


def _left_overs(repair: bool) -> list[Complaint]:
    """What is still being worked on belongs to somebody; this is asked while nobody works."""
    out = []
    for path in housekeeping.unfinished():
        if repair:
            housekeeping.delete(path)
        remedy = "deleted" if repair else "--repair deletes it"
        out.append(Complaint(f"{path.parent.name}/{path.name}: was never finished", remedy, repair))
    for path in housekeeping.nobodys():
        if repair:
            quarantine.put_aside(path)
        remedy = "put aside" if repair else "--repair puts it aside"
        out.append(Complaint(f"{path.parent.name}/{path.name}: nobody uses it", remedy, repair))
    return out


def _put_aside(repair: bool) -> list[Complaint]:
    """Tell of what may go from the quarantine for good; what lies there less long is no complaint."""
    out = []
    for day in (day for day in quarantine.days() if day.over):
        if repair:
            quarantine.let_go(day)
        what = f"quarantine of {day.day}: {day.files} files, {day.bytes / 1e6:.1f} MB, for more than {quarantine.KEPT_DAYS} days"
        out.append(Complaint(what, "deleted" if repair else "--repair deletes it", repair))
    return out


def _cards() -> list[Complaint]:
    fault = opening.older()
    return [Complaint(fault, opening.REMEDY, False)] if fault else []


def _database() -> list[Complaint]:
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA integrity_check")
        rows = [row[0] for row in cursor.fetchall() if row[0] != "ok"]
        cursor.execute("PRAGMA foreign_key_check")
        rows += [f"a row of {table} belongs to nothing" for table, *_ in cursor.fetchall()]
    return [Complaint(f"database: {row}", opening.REMEDY, False) for row in rows]


def _recordings(repair: bool, on_progress: Progress) -> list[Complaint]:
    """Read every recording; a damaged one is put aside under another name, so that it can be healed."""
    out, hashes = [], sorted(set(MicRecording.objects.values_list("digest", flat=True)))
    for number, digest in enumerate(hashes):
        on_progress(number / len(hashes), "recordings")
        path = store.audio_path(digest)
        fault = _fault(path, digest)
        if fault is None:
            out += _lengths(digest, path, repair)
            continue
        rows = MicRecording.objects.filter(digest=digest).select_related("take__session")
        whose = ", ".join(sorted({f"{row.take.session.name}: {row.file}" for row in rows})[:3])
        if repair and path.exists():
            quarantine.put_aside(path)
        forget_opened()
        out.append(Complaint(f"recording {digest[:12]} ({whose}): {fault}", HEAL, False))
    on_progress(1.0, "recordings")
    return out


def _fault(path: Path, digest: str) -> str | None:
    """Return what is wrong with a recording's file: it is held against its own hash, never against what a row claims."""
    if not path.exists():
        return "the file is missing"
    try:
        found, _ = audio.digest_of(path)
    except (AudioError, ValueError, OSError) as error:
        return f"cannot be read ({error})"
    return None if found == digest else "the samples are not those that were imported"


def _lengths(digest: str, path: Path, repair: bool) -> list[Complaint]:
    """The file is whole; where rows claim another length, they are wrong."""
    length = audio.MicFile(path).length
    wrong = MicRecording.objects.filter(digest=digest).exclude(length=length)
    if not wrong.exists():
        return []
    whose = ", ".join(
        sorted({f"{row.take.session.name}: {row.file}" for row in wrong.select_related("take__session")})[:3]
    )
    if repair:
        wrong.update(length=length)
    remedy = "its row was mended" if repair else "--repair mends its row"
    return [Complaint(f"recording {digest[:12]} ({whose}): is not as long as its row says", remedy, repair)]


def _healed(folder: Path) -> list[str]:
    """Read the files of a folder and keep those whose samples are missing; return their hashes."""
    wanted = {
        (digest, rate)
        for digest, rate in MicRecording.objects.values_list("digest", "take__session__sample_rate_hz")
        if not store.audio_path(digest).exists()
    }
    out = []
    for path in sorted(folder.rglob("*")):
        if path.suffix.lower() not in audio.ENDINGS or not path.is_file():
            continue
        for rate in {rate for _, rate in wanted}:
            try:
                made = audio.ingest(path, store.audio_folder(), rate)
            except AudioError:
                continue
            out += [channel.digest for channel in made if (channel.digest, rate) in wanted]
    return out  # what was read in vain is a left-over


def _plan(session: Session) -> list[Complaint]:
    name, out = f"session {session.pk} ({session.name})", []
    try:
        plan = session.plan
    except SettingsError as error:
        return [Complaint(f"{name}: its Plan is damaged ({error})", "bring back a copy of the data folder", False)]
    known = set(session.takes.values_list("key", flat=True))
    mics = set(MicRecording.objects.filter(take__session=session, take__kind=Take.DRUMS).values_list("mic", flat=True))
    if session.ready and plan.take not in known:
        out.append(f"its working take {plan.take!r} is not there")
    if mics - {mic.id for mic in plan.mics}:
        out.append("a recording belongs to no mic of its Plan")
    numbers = list(session.moves.values_list("number", flat=True))
    if numbers != list(range(1, len(numbers) + 1)):
        out.append("its Moves are not numbered one by one")
    done = session.moves.filter(state=Move.DONE).order_by("-number").first()
    if done is not None and done.made_on >= session.version:
        out.append("its last Move is newer than its Plan")
    return [Complaint(f"{name}: {each}", "bring back a copy of the data folder", False) for each in out]


def _prints(repair: bool) -> list[Complaint]:
    out = []
    for printed in Print.objects.select_related("session"):
        folder, name = Path(printed.folder), f"print {printed.pk} of {printed.session.name}"
        if not folder.is_dir():
            if repair:
                printed.delete()
            out.append(
                Complaint(f"{name}: its folder is gone", "forgotten" if repair else "--repair forgets it", repair)
            )
            continue
        for row in printed.manifest["files"]:
            path = folder / row["file"]
            if not path.is_file() or checksum.of_file(path) != row["blake3"]:
                out.append(Complaint(f"{name}: {row['file']} is not what was printed", "print again", False))
    return out


def _jobs(repair: bool) -> list[Complaint]:
    out = []
    for job in Job.objects.filter(state__in=Job.OPEN):
        if not owner.alive(job.owner):
            if repair:
                Job.objects.filter(pk=job.pk).update(state=Job.FAILED, message=runner.STOPPED)
            remedy = "marked as failed" if repair else "`arkund serve` takes it up"
            out.append(Complaint(f"job {job.pk} ({job.title}): its process is gone", remedy, repair))
    return out
