"""Where audio and prints lie in the data folder."""

from pathlib import Path

from django.conf import settings


def audio_folder() -> Path:
    """Return the folder of imported channels, each named by the hash of its samples."""
    return Path(settings.DATA) / "audio"


def audio_path(sha256: str) -> Path:
    """Return the file of one imported channel."""
    return audio_folder() / f"{sha256}.npy"


def prints_folder() -> Path:
    """Return the folder of prints made from the pages."""
    return Path(settings.DATA) / "prints"


def cache_folder() -> Path:
    """Return the folder of rendered spans that no longer fit into memory; it is emptied at each start."""
    return Path(settings.DATA) / "cache"


def whole_folder() -> Path:
    """Return the folder of the whole songs' waveforms as rendered, by session."""
    return Path(settings.DATA) / "whole"


def incoming_folder() -> Path:
    """Return the folder where uploads wait for their import."""
    folder = Path(settings.DATA) / "incoming"
    folder.mkdir(parents=True, exist_ok=True)
    return folder
