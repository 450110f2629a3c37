"""Teach what each kind of mic sounds like, on generated kits of all makings: ``python -m tools.teach_sounds [KITS]``.

Writes ``arkund/core/load/sounds.npz``. Needs the sound banks of tools/recorded.py.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import numpy as np

from arkund.core.load.sound import features_of, fit, kind_of
from tools.strange_kits import strange_kit

OUT = Path(__file__).parent.parent / "arkund" / "core" / "load" / "sounds.npz"


def _of_kit(number: int) -> list[tuple[np.ndarray, str]]:
    kit = strange_kit(number)
    found = features_of(kit.readers, kit.sample_rate_hz)
    kinds = [kind_of(mic.piece, mic.role) for mic in kit.mics]
    return [(mine, kind) for mine, kind in zip(found, kinds, strict=True) if mine is not None and kind is not None]


def main() -> None:
    """Teach on as many kits as asked for."""
    kits = int(sys.argv[1]) if len(sys.argv) > 1 else 110
    with ProcessPoolExecutor(2) as pool:
        rows = [row for mine in pool.map(_of_kit, range(5000, 5000 + kits)) for row in mine]
    np.savez(OUT, **fit([x for x, _ in rows], [kind for _, kind in rows]))
    print(f"{len(rows)} mics of {kits} kits")


if __name__ == "__main__":
    main()
