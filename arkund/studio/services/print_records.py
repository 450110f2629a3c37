"""Prints as they lie in the data folder, and the rows that refer to them."""

from pathlib import Path

from arkund.core.settings import read_json
from arkund.studio.models import Print, Session
from arkund.studio.services import store


def unclaimed() -> list[Path]:
    """Return the folders and archives in the prints' folder that no print refers to."""
    printed = set(Print.objects.values_list("folder", flat=True))
    found = [path for path in store.prints_folder().glob("*/*") if not path.name.startswith(".")]
    return [path for path in found if str(path.with_suffix("")) not in printed]


def claim() -> list[Print]:
    """Note the prints that lie there and that the database does not know, where their manifests name a session that it knows: it is older than they are, or
    they were brought back.
    """
    out, known = [], {session.uid: session for session in Session.objects.all()}
    for path in (path for path in unclaimed() if path.is_dir()):
        try:
            said = read_json((path / "manifest.json").read_bytes())
            session = known[said["session_uid"]]
            row = Print(
                session=session,
                folder=str(path),
                format=str(said["format"])[:10],
                version=int(said["plan_version"]),
                manifest=said,
            )
        except (OSError, ValueError, KeyError, TypeError):
            continue
        row.save()
        out.append(row)
    return out
