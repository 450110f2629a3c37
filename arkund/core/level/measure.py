"""How loud each mic is at its own hits, and where it clips."""

from dataclasses import dataclass

import numpy as np

from arkund.core.files.audio import CLIP_LEVEL
from arkund.core.units import SILENCE_DB, gain_to_db, power_to_db

BEFORE_S, AFTER_S = 0.002, 0.03
KIT_AFTER_S = 0.06  # sound reaches the far mics later
MOST_PLACES = 5000  # kept of the clipped places of a mic
BLOCK_S = 10.0
NOISE_BLOCK_S = 0.05
CLIP_RUN = 2  # neighbouring samples at full scale that count as clipped


@dataclass(frozen=True, slots=True)
class MicLevel:
    """Peaks of one mic, dBFS of the recording before any trim."""

    mic: str
    hit_peaks_db: tuple[float, ...]
    hit_times_s: tuple[float, ...]
    typical_db: float  # 90 % of its own hits stay below
    peak_db: float
    noise_db: float
    clipped_at_s: tuple[float, ...]

    @property
    def clipped_places(self) -> str:
        """Return how often it clips, in words."""
        count = len(self.clipped_at_s)
        return f"{count} or more" if count >= MOST_PLACES else f"{count}"


def mic_level(reader, mic_id: str, times_s: list[float], close: bool, sample_rate_hz: int) -> MicLevel:
    """Measure one mic at the given hits (its own piece's, or the whole kit's for a mic of the kit)."""
    rate = sample_rate_hz
    after = AFTER_S if close else KIT_AFTER_S
    peaks = [
        float(gain_to_db(np.abs(reader.read(int((t - BEFORE_S) * rate), int((t + after) * rate))).max(initial=0.0)))
        for t in times_s
    ]
    peak, clipped, noise = 0.0, [], []
    step = int(BLOCK_S * rate)
    for start in range(0, reader.length, step):
        part = np.abs(reader.read(start, min(start + step, reader.length)))
        peak = max(peak, float(part.max(initial=0.0)))
        if peak >= CLIP_LEVEL and len(clipped) < MOST_PLACES:
            clipped += _clipped_places(part, start, rate)
        short = int(NOISE_BLOCK_S * rate)
        whole = part.size // short * short
        noise += np.mean(part[:whole].reshape(-1, short) ** 2, axis=1).tolist()
    quiet = [power for power in noise if power > 0]
    typical = float(np.quantile(peaks, 0.9)) if peaks else float(gain_to_db(peak))
    return MicLevel(
        mic_id,
        tuple(round(p, 2) for p in peaks),
        tuple(times_s),
        typical,
        float(gain_to_db(peak)),
        float(power_to_db(np.quantile(quiet, 0.05))) if quiet else SILENCE_DB,
        tuple(clipped[:MOST_PLACES]),
    )


def _clipped_places(size: np.ndarray, start: int, rate: int) -> list[float]:
    at = np.flatnonzero(size >= CLIP_LEVEL)
    if at.size < CLIP_RUN:
        return []
    runs = np.split(at, np.flatnonzero(np.diff(at) > 1) + 1)
    places = [run[0] for run in runs if run.size >= CLIP_RUN]
    apart = [p for i, p in enumerate(places) if i == 0 or p - places[i - 1] > 0.02 * rate]
    return [(start + int(p)) / rate for p in apart]
