"""Print from the page, and download what was printed."""

import uuid
import zipfile
from pathlib import Path

from django.http import FileResponse, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from arkund.core.errors import SettingsError
from arkund.core.files import room
from arkund.core.files.writing import BITS
from arkund.studio.jobs import runner
from arkund.studio.models import Print
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.services.access import session_or_404, user_of
from arkund.studio.services.printing import ACCOUNT


@require_POST
def start(request: HttpRequest, session_id: int) -> JsonResponse:
    """Start a print as a job."""
    session = session_or_404(request, session_id)
    format_name = wanted(body_of(request), "format", str, "wav24")
    if format_name not in BITS:
        raise SettingsError(f"format: expected one of {', '.join(BITS)}; got {format_name!r}.")
    given = {"folder": f"{session.pk}/{uuid.uuid4().hex[:12]}", "format": format_name}
    return JsonResponse({"job": runner.start("print", given, f"print, {format_name}", session.pk, user_of(request)).pk})


def file(request: HttpRequest, session_id: int, print_id: int, name: str) -> FileResponse:
    """Download one file of a print; only names that the manifest lists exist."""
    printed = get_object_or_404(Print, pk=print_id, session=session_or_404(request, session_id))
    listed = {f["file"] for f in printed.manifest["files"]} | {"manifest.json", ACCOUNT}
    if name not in listed:
        raise SettingsError(f"file: {name!r} is not part of this print.")
    path = Path(printed.folder) / name
    if not path.is_file():
        raise SettingsError("file: it is no longer on this machine; print again.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=name)


def archive(request: HttpRequest, session_id: int, print_id: int) -> FileResponse:
    """Download a whole print as one zip (stored, as audio does not shrink)."""
    printed = get_object_or_404(Print, pk=print_id, session=session_or_404(request, session_id))
    folder = Path(printed.folder)
    if not folder.is_dir():
        raise SettingsError("print: it is no longer on this machine; print again.")
    made = folder.with_suffix(".zip")
    if not made.exists():
        room.check(folder, sum(each.stat().st_size for each in folder.iterdir()))
        new = made.with_name(f".new-{uuid.uuid4().hex}")
        with zipfile.ZipFile(new, "w", zipfile.ZIP_STORED) as bundle:
            for name in sorted(p.name for p in folder.iterdir()):
                bundle.write(folder / name, name)
        new.replace(made)
    return FileResponse(made.open("rb"), as_attachment=True, filename=f"{printed.session.name} v{printed.version}.zip")


def empty(request: HttpRequest) -> HttpResponse:
    """Answer the browser's question for an icon with nothing."""
    return HttpResponse(status=204)
