"""Take uploaded recordings or an archive, and start their import."""

from pathlib import PurePosixPath

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.core.errors import SettingsError
from arkund.studio.jobs import runner
from arkund.studio.services import templates, uploads
from arkund.studio.services.access import user_of
from arkund.studio.services.importing import tempo_of


@require_POST
def load(request: HttpRequest) -> JsonResponse:
    """Take uploaded files and start their import; ``paths`` names each file's place in the dropped folder."""
    files, user = request.FILES.getlist("files"), user_of(request)
    if not files:
        raise SettingsError("files: nothing was sent; choose the folder with the recordings.")
    paths = request.POST.getlist("paths") or [f.name for f in files]
    if len(paths) != len(files):
        raise SettingsError("paths: one path is needed for each file.")
    uploads.check_share(user, sum(file.size for file in files))
    if len(files) == 1 and files[0].name.lower().endswith(".zip"):
        with uploads.taken(files, [files[0].name]) as folder:
            return _started("restore", {"folder": folder.name}, f"return of {files[0].name}", user)
    # What was typed is checked before a file is touched.
    bpm, meter = _bpm(request.POST.get("bpm", "").strip()), request.POST.get("meter") or "4/4"
    tempo_of(bpm, meter)
    template = request.POST.get("template", "")
    if template:
        templates.named(template, user)
    name = (request.POST.get("name") or _top(paths) or "Session").strip()[:120]
    given = {"name": name, "bpm": bpm, "meter": meter, "template": template}
    with uploads.taken(files, paths) as folder:
        return _started("import", {"folder": folder.name, **given}, f"import of {name}", user)


def _started(kind: str, given: dict, title: str, user: int | None) -> JsonResponse:
    return JsonResponse({"job": runner.start(kind, given, title, user_id=user).pk})


def _bpm(text: str) -> float | None:
    try:
        return float(text.replace(",", ".")) if text else None
    except ValueError as error:
        raise SettingsError(f"bpm: expected a number, got {text[:40]!r}.") from error


def _top(paths: list[str]) -> str:
    first = PurePosixPath(paths[0].replace("\\", "/")).parts
    return first[0] if len(first) > 1 else ""
