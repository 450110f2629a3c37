"""Crossfades of constant power, whatever the two signals have in common."""

import numpy as np


def crossfade(at: np.ndarray, length: int, alike: float) -> tuple[np.ndarray, np.ndarray]:
    """Return the gains of the signal that comes and of the one that goes, float32 [shape of at].

    A raised cosine, brought to constant power for two signals of the correlation ``alike`` (0 to 1): 1 gives gains that add up to one,
    0 gains whose squares do.

    at : samples since the fade's beginning; outside of 0 to ``length`` one of the signals is alone
    """
    w = (0.5 - 0.5 * np.cos(np.pi * np.clip((at + 0.5) / length, 0.0, 1.0))).astype(np.float32)
    both = np.sqrt(w**2 + (1 - w) ** 2 + np.float32(2 * alike) * w * (1 - w))
    return w / both, (1 - w) / both


def cubic(done: np.ndarray) -> np.ndarray:
    """Return the gain of what comes, by how much of its fade is done (0 to 1, clipped) [shape of done]: 3 x^2 - 2 x^3, which begins and ends without a corner.

    Plain products: the same on every machine.
    """
    x = np.clip(done, 0.0, 1.0)
    return x * x * (3.0 - 2.0 * x)


def correlation(a: np.ndarray, b: np.ndarray) -> float:
    """Return how much two signals have in common, 0 (nothing, or opposed) to 1; for a crossfade between them."""
    a, b = a.astype(np.float64), b.astype(np.float64)
    power = np.sqrt(np.sum(a * a) * np.sum(b * b))
    return round(float(np.clip(np.sum(a * b) / power, 0.0, 1.0)), 3) if power > 1e-12 else 0.0
