"""Teach what each kind of mic sounds like, on generated kits of all makings: ``make sounds``.

Grows the trees of ``arkund/core/load/sounds.npz``. Needs the teach extra and the sound banks of tools/recorded.py.
"""

import sys
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

import lightgbm
import numpy as np

from arkund.core.load.sound import KINDS, against_the_kit, features_of, kind_of
from tools.strange_kits import strange_kit
from tools.teach_judge import table

OUT = Path(__file__).parent.parent / "arkund" / "core" / "load" / "sounds.npz"
FIRST = 5000  # of the numbers of its kits, apart from those that teach the hit judge
SETTINGS = {
    "objective": "multiclass",
    "num_class": len(KINDS),
    "learning_rate": 0.05,
    "num_leaves": 15,
    "min_child_samples": 8,
    "feature_fraction": 0.6,
    "bagging_fraction": 0.8,
    "bagging_freq": 1,
    "seed": 1,
    "verbose": -1,
}
ROUNDS = 200


def rows_of_kit(number: int) -> tuple[np.ndarray, list[int]]:
    """Return the features of a kit's mics and their kinds' numbers."""
    kit = strange_kit(number)
    found = features_of(kit.readers, kit.sample_rate_hz)
    kinds = [kind_of(mic.piece, mic.role) for mic in kit.mics]
    known = [k for k, mine in enumerate(found) if mine is not None and kinds[k]]
    return against_the_kit([found[k] for k in known]), [KINDS.index(kinds[k]) for k in known]


def grow(x: np.ndarray, kinds: np.ndarray) -> dict[str, np.ndarray]:
    """Return boosted trees as the columns of one table; those of the kinds lie in turn."""
    return table(lightgbm.train(SETTINGS, lightgbm.Dataset(x, kinds), ROUNDS))


def main() -> None:
    """Teach on as many kits as asked for."""
    kits = int(sys.argv[1]) if len(sys.argv) > 1 else 350
    with ProcessPoolExecutor(2) as pool:
        rows = list(pool.map(rows_of_kit, range(FIRST, FIRST + kits)))
    np.savez_compressed(OUT, **grow(np.concatenate([x for x, _ in rows]), np.concatenate([k for _, k in rows])))


if __name__ == "__main__":
    main()
