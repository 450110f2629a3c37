"""What is cleared up when the application starts: left-overs of work that a crash cut off."""

import shutil

from arkund.studio.jobs.runner import settle_orphans
from arkund.studio.models import MicRecording
from arkund.studio.services import store


def clear_up() -> None:
    """Mark orphaned jobs and delete temporary files and audio that no session uses."""
    settle_orphans()
    for path in store.incoming_folder().iterdir():
        shutil.rmtree(path, ignore_errors=True) if path.is_dir() else path.unlink(missing_ok=True)
    used = set(MicRecording.objects.values_list("sha256", flat=True))
    if store.audio_folder().is_dir():
        for path in store.audio_folder().iterdir():
            if path.name.startswith(".new-") or path.stem not in used:
                path.unlink(missing_ok=True)
    if store.prints_folder().is_dir():
        for path in store.prints_folder().rglob(".printing-*"):
            shutil.rmtree(path, ignore_errors=True)
