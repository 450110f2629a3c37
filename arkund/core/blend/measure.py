"""What the kit, its paths and its bus do over a span."""

from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.bank import bank_of
from arkund.core.punch.measure import threshold_taking
from arkund.core.tools import compressor
from arkund.core.units import gain_to_db


@dataclass(frozen=True, slots=True)
class Reduction:
    """Gain reduction of a compressor over time: its deepest point and its mean while it works, in dB."""

    deepest_db: float
    mean_db: float
    time_s: tuple[float, ...]
    reduction_db: tuple[float, ...]


def reduction(audio: np.ndarray, settings, sample_rate_hz: int, points: int = 400) -> Reduction:
    """Measure what a compressor takes from stereo audio [float32, shape=(samples, 2)]."""
    neutral = settings.replace(makeup_db=0.0, share=1.0, on=True)
    gain = compressor.gain(bank_of(list(audio.T)), [neutral] * 2, sample_rate_hz, linked=True)[:, 0]
    step = max(audio.shape[0] // points, 1)
    lows = gain[: audio.shape[0] // step * step].reshape(-1, step).min(axis=1)
    db = -gain_to_db(lows)
    working = db[db > 0.5]
    times = np.arange(lows.size) * step / sample_rate_hz
    return Reduction(
        float(db.max(initial=0.0)),
        float(working.mean()) if working.size else 0.0,
        tuple(np.round(times, 4).tolist()),
        tuple(np.round(db, 2).tolist()),
    )


def threshold_for(audio: np.ndarray, settings, wanted_db: float, sample_rate_hz: int) -> float:
    """Return the threshold in dB at which a compressor's deepest reduction of stereo audio is wanted_db.

    The curve alone does not tell it: a slow attack lets the loudest hits pass.
    """

    def taken_db(threshold_db: float) -> float:
        return reduction(audio, settings.replace(threshold_db=threshold_db), sample_rate_hz).deepest_db

    return threshold_taking(taken_db, wanted_db)
