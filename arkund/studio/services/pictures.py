"""Peak pyramids on disk, made when first asked for."""

import os
import tempfile
from pathlib import Path

from arkund.core.errors import SettingsError
from arkund.core.files.audio import MicFile
from arkund.core.files.peaks import LEVELS, pyramid
from arkund.studio.services import store


def peaks(digest: str, level: int) -> Path:
    """Return the file of one level: int8 minimum and maximum by column."""
    if level not in LEVELS:
        raise SettingsError(f"level: expected one of {LEVELS}, got {level!r}.")
    folder = store.peaks_folder()
    wanted = folder / f"{digest}-{level}.bin"
    if not wanted.exists():
        folder.mkdir(exist_ok=True)
        for each, columns in pyramid(MicFile(store.audio_path(digest))).items():
            handle, name = tempfile.mkstemp(dir=folder)
            with os.fdopen(handle, "wb") as file:
                file.write(columns.tobytes())
            Path(name).replace(folder / f"{digest}-{each}.bin")
    return wanted
