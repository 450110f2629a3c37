"""Print: every mic, the group stems and the kit, as heard, with a manifest."""

import json
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from django.template.loader import render_to_string

from arkund import __version__
from arkund.core import tasks
from arkund.core.errors import AudioError, CancelledError, SettingsError
from arkund.core.files.writing import BITS
from arkund.core.plan.plan import Plan
from arkund.core.render.printing import lowering_db
from arkund.core.render.stream import length_of
from arkund.core.takes.process import assembled
from arkund.studio.memory import give_back
from arkund.studio.models import Print, Session
from arkund.studio.services import account, places, store, whole
from arkund.studio.services.recordings import recordings_of

ACCOUNT = "account.html"  # what was done, as a page beside the files
NAMES = {"kit": "the kit mix", "stems": "stems and paths", "mics": "mics"}


def print_session(
    session: Session,
    folder: Path,
    format_name: str = "wav24",
    on_progress: Callable[[float, str], None] = lambda share, text: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> dict:
    """Print a session into a folder that becomes visible as a whole; returns the manifest.

    Where a 24-bit file would pass full scale, the files of its kind are lowered by one gain, which keeps their balance and stands in the manifest: mics, stems
    and paths, the kit mix; float files hold everything as it is.

    Raises SettingsError for an unknown format, AudioError where the folder cannot be written, CancelledError.
    """
    if format_name not in BITS:
        raise SettingsError(f"format: expected one of {', '.join(BITS)}; got {format_name!r}.")
    if folder.exists() and any(folder.iterdir()):
        raise AudioError(f"{folder.name}: the folder is not empty; choose a new one.")
    give_back()
    with store.being_written():
        return _print(session, folder, format_name, on_progress, cancelled)


def _print(session: Session, folder: Path, format_name: str, on_progress, cancelled) -> dict:
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        making = Path(tempfile.mkdtemp(prefix=".printing-", dir=folder.parent))
    except OSError as error:
        raise AudioError(f"{folder.name}: cannot be written ({error.strerror}); choose another folder.") from error
    try:
        plan, recordings = session.plan, recordings_of(session)
        told = _account(session)

        def printed(lowered_db: dict[str, float]) -> tuple[Path, list[dict]]:
            work = (tasks.print_below, plan, recordings, making, format_name, lowered_db)
            return places.run(*work, on_progress=on_progress, cancelled=cancelled)

        lowered_db = expected_lowering_db(session, plan, format_name)
        made, rows = printed(lowered_db)
        more = _lowering_db(rows, plan) if BITS[format_name] == 24 else {}
        if any(more.values()):  # nobody had measured the song before
            shutil.rmtree(made)
            lowered_db = {kind: round(lowered_db.get(kind, 0.0) + more[kind], 1) for kind in more}
            made, rows = printed(lowered_db)
        length = length_of(plan, assembled(plan, recordings))
        manifest = _manifest(session, plan, format_name, length, rows) | {"lowered_db": lowered_db}
        (made / "manifest.json").write_text(json.dumps(manifest, indent=1, sort_keys=True))
        if told:
            (made / ACCOUNT).write_text(told, encoding="utf-8")
        if folder.exists():
            folder.rmdir()
        made.replace(folder)
    except CancelledError as error:
        raise CancelledError("The print was cancelled; nothing was kept.") from error
    except OSError as error:
        raise AudioError(f"{folder.name}: writing failed ({error.strerror}); nothing was kept.") from error
    finally:
        shutil.rmtree(making, ignore_errors=True)
    Print.objects.create(
        session=session, folder=str(folder), format=format_name, version=session.version, manifest=manifest
    )
    return manifest


def _account(session: Session) -> str:
    """Return the account of what jobs did as a page that stands by itself; "" where they did nothing."""
    if not account.has_deeds(session):
        return ""
    return render_to_string("account/printed.html", {"session": session, "account": account.account(session)})


def expected_lowering_db(session: Session, plan: Plan, format_name: str) -> dict[str, float]:
    """Return by how much the files of each kind would be lowered in a print, by what is known of the song; nothing where it has not been measured yet."""
    known = whole.found(session, plan) if BITS[format_name] == 24 else None
    return lowering_db({name: output["peak_db"] for name, output in known.items()}, plan) if known else {}


def _lowering_db(rows: list[dict], plan: Plan) -> dict[str, float]:
    return lowering_db({row["output"]: row["peak_db"] for row in rows}, plan)


def lowered_words(lowered_db: dict[str, float] | float) -> str:
    """Return in words by how much the files of a print are lower than what is heard; "" where none is. A number is of prints that were lowered as a whole."""
    if not isinstance(lowered_db, dict):
        lowered_db = {"all": lowered_db}
    told = [f"{NAMES.get(kind, 'all files')} by {db:.1f} dB" for kind, db in lowered_db.items() if db]
    return ", ".join(told)


def _manifest(session: Session, plan: Plan, format_name: str, length: int, rows: list[dict]) -> dict:
    return {
        "arkund": __version__,
        "session": session.name,
        "session_uid": session.uid,
        "plan_version": session.version,
        "sample_rate_hz": session.sample_rate_hz,
        "length_samples": length,
        "format": format_name,
        "sum": "The kit mix has been through the kit's tools and level; stems and paths are what comes into them, each at its level,"
        " so stems plus paths add up to what reaches the kit's tools.",
        "files": rows,
        "plan": plan.to_json(),
    }
