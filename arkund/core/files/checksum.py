"""The checksum of audio: BLAKE3, because hashing must not be what printing and importing wait for."""

from pathlib import Path

from blake3 import blake3

fresh = blake3  # a digest of nothing yet: ``update`` it, then ask for ``hexdigest``


def of_file(path: Path) -> str:
    """Return a file's BLAKE3 as hexadecimal text; ``b3sum`` says the same."""
    return blake3().update_mmap(path).hexdigest() if path.stat().st_size else blake3().hexdigest()
