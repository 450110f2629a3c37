"""The list of sessions, loading files, and long work."""

import shutil
import uuid
from pathlib import Path, PurePosixPath

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from arkund.core.errors import SettingsError
from arkund.studio.jobs import runner
from arkund.studio.pages.errors import body_of, wanted
from arkund.studio.pages.fields import ranges_of
from arkund.studio.services import store, templates
from arkund.studio.services.access import sessions_of, user_of


def sessions(request: HttpRequest) -> HttpResponse:
    """Show the sessions and the place to drop a folder."""
    context = {
        "sessions": sessions_of(request).filter(ready=True),
        "ranges": ranges_of("home"),
        "templates": templates.of_user(user_of(request)),
    }
    return render(request, "home/home.html", context)


@require_POST
def load(request: HttpRequest) -> JsonResponse:
    """Take uploaded files and start their import; ``paths`` names each file's place in the dropped folder."""
    files = request.FILES.getlist("files")
    if not files:
        raise SettingsError("files: nothing was sent; choose the folder with the recordings.")
    paths = request.POST.getlist("paths") or [f.name for f in files]
    if len(paths) != len(files):
        raise SettingsError("paths: one path is needed for each file.")
    if len(files) == 1 and files[0].name.lower().endswith(".zip"):
        return _restored(request, files[0])
    bpm_text = request.POST.get("bpm", "").strip()
    try:
        bpm = float(bpm_text.replace(",", ".")) if bpm_text else None
    except ValueError as error:
        raise SettingsError(f"bpm: expected a number, got {bpm_text!r}.") from error
    folder = store.incoming_folder() / uuid.uuid4().hex
    for path, file in zip(paths, files, strict=True):
        target = folder / _inside(path)
        target.parent.mkdir(parents=True, exist_ok=True)
        if target.exists():
            target = target.with_stem(f"{target.stem}-{uuid.uuid4().hex[:4]}")
        shutil.copyfile(file.temporary_file_path(), target)
    name = (request.POST.get("name") or _top(paths) or "Session").strip()[:120]
    meter = request.POST.get("meter") or "4/4"

    template = request.POST.get("template", "")
    if template:
        templates.named(template, user_of(request))  # a wrong name is told before the files are read

    given = {"folder": folder.name, "name": name, "bpm": bpm, "meter": meter, "template": template}
    return JsonResponse({"job": runner.start("import", given, f"import of {name}", user_id=user_of(request)).pk})


def _restored(request: HttpRequest, file) -> JsonResponse:
    folder = store.incoming_folder() / uuid.uuid4().hex
    folder.mkdir()
    shutil.copyfile(file.temporary_file_path(), folder / _inside(file.name).name)
    given = {"folder": folder.name}
    return JsonResponse({"job": runner.start("restore", given, f"return of {file.name}", user_id=user_of(request)).pk})


def _inside(path: str) -> Path:
    """Return a relative path that stays inside the folder, whatever was sent."""
    parts = [p for p in PurePosixPath(path.replace("\\", "/")).parts if p not in ("/", "..", ".")]
    safe = ["".join(c for c in p if c.isprintable() and c not in '<>:"|?*\0').lstrip(".")[:120] for p in parts[-3:]]
    kept = [p for p in safe if p]
    return Path(*kept) if kept else Path("unnamed")


def _top(paths: list[str]) -> str:
    first = PurePosixPath(paths[0].replace("\\", "/")).parts
    return first[0] if len(first) > 1 else ""


@require_POST
def rename_template(request: HttpRequest, template_id: int) -> JsonResponse:
    """Give a template another name."""
    template = get_object_or_404(templates.of_user(user_of(request)), pk=template_id)
    templates.rename(template, wanted(body_of(request), "name", str))
    return JsonResponse({"name": template.name})


@require_POST
def remove_template(request: HttpRequest, template_id: int) -> HttpResponse:
    """Delete a template; what was started from it stays as it is."""
    get_object_or_404(templates.of_user(user_of(request)), pk=template_id).delete()
    return redirect("home")
