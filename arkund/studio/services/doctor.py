"""``arkund doctor``: does the data folder hold what the database says, and the other way round? What can be repaired, is."""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from django.db import connection

from arkund.core.errors import AudioError, SettingsError
from arkund.core.files import audio, checksum
from arkund.core.files.library import forget_opened
from arkund.studio.jobs import runner
from arkund.studio.models import Job, MicRecording, Move, Print, Session, Take
from arkund.studio.services import housekeeping, store

HEAL = "give the folder with the original files: arkund doctor --from FOLDER"
BLOCK = 1 << 20
Progress = Callable[[float, str], None]


@dataclass(frozen=True, slots=True)
class Complaint:
    """Something that is not as it should be, and what was done about it or is to be done by hand."""

    what: str
    remedy: str
    repaired: bool


def examine(
    *, repair: bool, heal_from: Path | None = None, on_progress: Progress = lambda share, text: None
) -> list[Complaint]:
    """Check database, recordings, Plans, jobs, prints and left-overs, and repair them where asked.

    heal_from : a folder with original recordings; those that are missing or damaged are read from it again
    """
    with store.undisturbed() as alone:
        if not alone:
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
        out += _prints(repair)
        out += _jobs(repair)
        for path in housekeeping.left_overs():
            if path != store.cache_folder():
                if repair:
                    housekeeping.delete(path)
                out.append(
                    Complaint(
                        f"{path.parent.name}/{path.name}: nobody uses it",
                        "deleted" if repair else "--repair deletes it",
                        repair,
                    )
                )
    return out


def _database() -> list[Complaint]:
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA integrity_check")
        rows = [row[0] for row in cursor.fetchall() if row[0] != "ok"]
        cursor.execute("PRAGMA foreign_key_check")
        rows += [f"a row of {table} belongs to nothing" for table, *_ in cursor.fetchall()]
    return [Complaint(f"database: {row}", "bring back a copy of the data folder", False) for row in rows]


def _recordings(repair: bool, on_progress: Progress) -> list[Complaint]:
    """Read every recording; a damaged one is put aside under another name, so that it can be healed."""
    out, hashes = [], sorted(set(MicRecording.objects.values_list("digest", flat=True)))
    for number, digest in enumerate(hashes):
        on_progress(number / len(hashes), "recordings")
        path = store.audio_path(digest)
        fault = _fault(path, digest)
        if fault is None:
            continue
        rows = MicRecording.objects.filter(digest=digest).select_related("take__session")
        whose = ", ".join(sorted({f"{row.take.session.name}: {row.file}" for row in rows})[:3])
        if repair and path.exists():
            path.unlink()
        forget_opened()
        out.append(Complaint(f"recording {digest[:12]} ({whose}): {fault}", HEAL, False))
    on_progress(1.0, "recordings")
    return out


def _fault(path: Path, digest: str) -> str | None:
    if not path.exists():
        return "the file is missing"
    try:
        mic = audio.MicFile(path)
        found = checksum.fresh()
        for start in range(0, mic.length, BLOCK):
            found.update(mic.read(start, min(start + BLOCK, mic.length)).tobytes())
    except (AudioError, ValueError, OSError) as error:
        return f"cannot be read ({error})"
    lengths = set(MicRecording.objects.filter(digest=digest).values_list("length", flat=True))
    if found.hexdigest() != digest or lengths != {mic.length}:
        return "the samples are not those that were imported"
    return None


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
        if not runner.alive(job.process):
            if repair:
                Job.objects.filter(pk=job.pk).update(state=Job.FAILED, message=runner.STOPPED)
            remedy = "marked as failed" if repair else "`arkund serve` takes it up"
            out.append(Complaint(f"job {job.pk} ({job.title}): its process is gone", remedy, repair))
    return out
