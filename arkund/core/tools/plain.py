"""A strip sample by sample in double precision: slow and plain. Tests and the bench hold the compiled loops against it."""

from collections.abc import Iterable

import numpy as np

from arkund.core.dsp.filters import Biquad
from arkund.core.tools.tool import Tool, module_of
from arkund.core.units import power_to_db


def row(x: np.ndarray, tools: Iterable[Tool], sample_rate_hz: int) -> np.ndarray:
    """Return a signal [shape=(samples,)] through a row of tools, silence following."""
    x = np.asarray(x, float)
    for tool in tools:
        if tool.on:
            x = module_of(tool.kind).oracle(x, tool, sample_rate_hz)
    return x


def residual_db(got: np.ndarray, wanted: np.ndarray) -> float:
    """Return the power of the difference of two signals against that of the wanted one, in dB."""
    return float(power_to_db(np.mean((got - wanted) ** 2) / np.mean(wanted**2)))


def filtered(x: np.ndarray, cascade: tuple[Biquad, ...]) -> np.ndarray:
    """Return a signal through sections in direct form."""
    for s in cascade:
        out = np.empty(len(x))
        x1 = x2 = y1 = y2 = 0.0
        for i, v in enumerate(x.tolist()):
            y = s.b0 * v + s.b1 * x1 + s.b2 * x2 - s.a1 * y1 - s.a2 * y2
            x1, x2, y1, y2 = v, x1, y, y1
            out[i] = y
        x = out
    return x
