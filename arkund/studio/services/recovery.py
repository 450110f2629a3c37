"""``arkund doctor``'s ways back: a copy of the database, sessions from the cards beside the recordings, what was put aside."""

from pathlib import Path

from django.core.management import call_command
from django.db import connection

from arkund.studio.services import cards, copies, opening, print_records, quarantine
from arkund.studio.services.complaint import Complaint


def recover(*, copy: str | None = None, from_audio: bool = False, day: str | None = None) -> list[str]:
    """Bring back what was asked for, in this order, and say what was done. Raises SettingsError."""
    done = []
    if copy is not None:
        done.append(f"database: {copies.bring_back(copy).name} is in its place; what stood there was put aside")
    if from_audio and opening.fault():
        done += _emptied()
    if day is not None:
        came = quarantine.bring_back(day)
        done.append(f"quarantine: {len(came)} files are back where they lay")
    if (from_audio or day is not None) and not opening.fault():
        call_command("migrate", verbosity=0, interactive=False)
        made, faults = cards.rebuild_all()
        done += [f"session {session.pk} ({session.name}): rebuilt from its card" for session in made] + faults
        done += [
            f"print {Path(each.folder).name} of {each.session.name}: listed again" for each in print_records.claim()
        ]
    return done


def _emptied() -> list[str]:
    """Put a lost or damaged database aside and make an empty one in its place."""
    connection.close()
    said = [f"{opening.fault()}: an empty one takes its place, what is left of it was put aside"]
    for ending in ("", "-wal", "-shm"):
        path = copies.database().with_name(copies.database().name + ending)
        if path.exists():
            quarantine.put_aside(path)
    call_command("migrate", verbosity=0, interactive=False)
    return said


def unopened() -> Complaint | None:
    """Return why the data folder cannot be opened at all; everything else can be examined then only."""
    fault = opening.fault()
    return Complaint(fault, opening.REMEDY, False) if fault else None


def put_aside_words() -> list[str]:
    """Return what lies in the quarantine, a line a day."""
    out = []
    for day in quarantine.days():
        way = f"; `arkund doctor --restore {day.day}` brings {day.returning} of them back" if day.returning else ""
        out.append(f"put aside on {day.day}: {day.files} files, {day.bytes / 1e6:.1f} MB{way}")
    return out
