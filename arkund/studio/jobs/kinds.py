"""What can be done as a job. Each kind finds all it needs in its row, so that it can be begun anew after a restart."""

import shutil
from collections.abc import Callable
from pathlib import Path

from arkund.core.errors import SettingsError
from arkund.core.findings import Finding
from arkund.studio.jobs import background
from arkund.studio.jobs.handle import Handle, Kind
from arkund.studio.models import Session
from arkund.studio.services import (
    archiving,
    carding,
    comping,
    editing,
    moves,
    proposing,
    recordings,
    store,
    styles,
    taking_in,
    templates,
    uploads,
    whole,
)
from arkund.studio.services.importing import import_folder
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import print_session


def _session(handle: Handle) -> Session:
    session = Session.objects.filter(pk=handle.job.session_id).first()
    if session is None:
        raise SettingsError("session: it was deleted meanwhile.")
    return session


def _import(handle: Handle) -> dict:
    """arguments: folder (below the incoming ones), name, bpm, meter, template (a name, or nothing)."""
    given = handle.job.arguments
    folder = store.incoming_folder() / given["folder"]
    if handle.job.session_id is None:
        import_folder(
            _only_folder(folder),
            name=given["name"],
            bpm=given["bpm"],
            meter=given["meter"],
            on_progress=lambda share, text: handle.progress(0.6 * share, text),
            cancelled=handle.cancelled,
            created=_created(handle),
            allowed=_allowed(handle),
        )
    shutil.rmtree(folder, ignore_errors=True)
    recordings.find_all(_session(handle), lambda share: handle.progress(0.6 + 0.4 * share, "finding hits"))
    session = _session(handle)
    if given.get("template") and session.version == 0:
        templates.start_from(session, templates.named(given["template"], handle.job.user_id))
        session.refresh_from_db()
    editing.settle_untold(session, given["bpm"])
    return {"session": handle.job.session_id}


def _created(handle: Handle) -> Callable[[int], None]:
    """Keep the new session as the job's, and open it to who asked for it."""

    def created(session_id: int) -> None:
        handle.keep(session_id)
        if handle.job.user_id is not None:
            Session.objects.get(pk=session_id).members.add(handle.job.user_id)

    return created


def _allowed(handle: Handle) -> Callable[[int], None]:
    """Hold what is to be kept against the share of who asked for it."""
    return lambda wanted_bytes: uploads.check_share(handle.job.user_id, wanted_bytes)


def _take_in(handle: Handle) -> dict:
    """arguments: folder (below the incoming ones) with what was sent, what (one of taking_in.WHAT), piece (of one-shots)."""
    session, given = _session(handle), handle.job.arguments
    folder = store.incoming_folder() / given["folder"]
    files = sorted(path for path in folder.rglob("*") if path.is_file())
    what, piece = given["what"], given.get("piece", "")
    move, said = taking_in.take_in(session, files, what, piece, _allowed(handle), handle.job.user_id)
    shutil.rmtree(folder, ignore_errors=True)
    return {"move": move.number if move else None, "title": move.title if move else "", "said": said}


def _archive(handle: Handle) -> dict:
    """arguments: file (below the archives)."""
    session = _session(handle)
    store.archives_folder().mkdir(exist_ok=True)
    for former in store.archives_folder().glob(f"{session.pk}-*.zip"):
        former.unlink()  # only the newest is kept for fetching
    path = store.archives_folder() / handle.job.arguments["file"]
    archiving.archive(session, path, handle.progress, handle.cancelled)
    return {"session": session.pk}


def _restore(handle: Handle) -> dict:
    """arguments: folder (below the incoming ones) with the archive in it."""
    folder = store.incoming_folder() / handle.job.arguments["folder"]
    if handle.job.session_id is None:
        archiving.restore(
            next(folder.iterdir()),
            on_progress=handle.progress,
            cancelled=handle.cancelled,
            created=_created(handle),
            allowed=_allowed(handle),
        )
    shutil.rmtree(folder, ignore_errors=True)
    return {"session": handle.job.session_id}


def _only_folder(folder: Path) -> Path:
    """Step into the one folder that was dropped, so that its sub-folders are the takes."""
    inside = list(folder.iterdir()) if folder.is_dir() else []
    return inside[0] if len(inside) == 1 and inside[0].is_dir() else folder


def _propose(handle: Handle) -> dict:
    """arguments: anyway (do not ask which mic is which)."""
    session = _session(handle)
    asked = [] if handle.job.arguments.get("anyway") else proposing.questions(session)
    if asked:
        return {"moves": 0, "ask": [_asked(finding) for finding in asked]}
    done = proposing.propose_all(session.pk, handle.progress, handle.cancelled)
    count = len(done.moves)
    title = (
        f"{count} deed{'s' if count != 1 else ''}, told under What I did" if count else "Nothing was left to propose"
    )
    said = f"{done.words} {_card_words(_session(handle))}".strip()
    return {"moves": len(done.moves), "title": title, "said": said}


def _asked(finding: Finding) -> dict:
    """Return a question about a name as a page asks it. mic : whose name is asked about, whose average hit can be heard"""
    return {
        "key": finding.key,
        "mic": finding.place,
        "title": finding.title,
        "evidence": finding.evidence,
        "can_do": bool(finding.changes),
    }


def _style(handle: Handle) -> dict:
    """arguments: style."""
    style = handle.job.arguments["style"]
    found = styles.work_out(_session(handle), style, handle.progress, handle.cancelled, handle.job.user_id)
    return {"title": f"Worked out: {style}", "said": styles.words(found)}


def _card_words(session: Session) -> str:
    """Return which figures of the card are still off, and which costs are beyond their limits."""
    measure, school = Measure(session), session.plan.school
    off = [row.figure.words for row in carding.card(measure, school) if row.off > carding.MET_DB]
    lost = [row.figure.words for row in carding.lost(measure, school) if row.off > carding.MET_DB]
    told = f"still off: {', '.join(off)}" if off else "every figure is in range"
    return f"{told}; beyond the cost limits: {', '.join(lost)}" if lost else told


def _take(handle: Handle) -> dict:
    """arguments: take, version, look (only find its hits)."""
    session, given = _session(handle), handle.job.arguments
    take = session.takes.get(key=given["take"])
    if recordings.found(session, session.plan, take.key) is None:
        recordings.find(session, session.plan, take.key, lambda share: handle.progress(share, "finding hits"))
    if given["look"] or session.plan.take == take.key:
        return {}
    changes = {
        "take": take.key,
        "joins": [],
        "chosen_bars": [],
        "hit_changes": [],
    } | comping.set_aside(session.plan)
    made = moves.apply(session.pk, changes, step="takes", title=f"Work on {take.name}", version=given["version"])
    return {"move": made.number}


def _print(handle: Handle) -> dict:
    """arguments: folder (below the prints), format."""
    session, given = _session(handle), handle.job.arguments
    folder = (
        store.prints_folder() / f"{given['folder']}-{handle.job.tries}"
    )  # what a killed try left does not stand in the way
    manifest = print_session(session, folder, given["format"], handle.progress, handle.cancelled)
    return {"files": len(manifest["files"])}


def _whole(handle: Handle) -> dict:
    background.wait_until_settled(handle)
    whole.measure(_session(handle), handle.progress, handle.cancelled)
    return {}


KINDS = {
    "import": Kind(_import, uploaded=True),
    "propose": Kind(_propose),
    "style": Kind(_style),
    "take": Kind(_take),
    "take-in": Kind(_take_in, uploaded=True),
    "print": Kind(_print),
    "archive": Kind(_archive),
    "restore": Kind(_restore, uploaded=True),
    "whole": Kind(_whole, quiet=True),
}
