"""The null test: what is left of one signal when another is taken away."""

import numpy as np

from arkund.core.units import SILENCE_DB, power_to_db


def null_db(a: np.ndarray, b: np.ndarray) -> tuple[float, float]:
    """Return what is left of ``b`` when ``a`` at the best gain is taken away, in dB against ``b``, and that gain (linear, signed).

    Identical copies leave nothing (SILENCE_DB); sounds that have nothing in common leave all (0 dB).
    """
    a, b = a.astype(np.float64).ravel(), b.astype(np.float64).ravel()
    power = float(a @ a)
    if power == 0.0 or not b.any():
        return 0.0, 0.0
    gain = float(a @ b) / power
    return max(float(power_to_db(np.mean((b - gain * a) ** 2) / np.mean(b**2))), SILENCE_DB), gain
