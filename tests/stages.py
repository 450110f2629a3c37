"""A stage of processing run once over a bank, from rest."""

import numpy as np

from arkund.core.punch.process import Compressor


def through(stage, bank: np.ndarray) -> np.ndarray:
    """Return a bank through a stage as a new array."""
    out = bank.copy()
    stage.run(out)
    return out


def compressor_gain(bank: np.ndarray, settings, rate: int) -> np.ndarray:
    """Return the gain of a bank's compressors at every sample."""
    return Compressor(settings, rate, bank.shape[1]).gain(bank)
