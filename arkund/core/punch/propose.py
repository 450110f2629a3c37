"""A starting shaper and compressor per mic, with the threshold set from the measured hits."""

import numpy as np

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_tom
from arkund.core.punch.settings import CompressorSettings, ShaperSettings

WANTED_REDUCTION_DB = 4.0
LONGEST_RELEASE_MS, SHORTEST_RELEASE_MS = 250.0, 50.0
RECOVERY = 3.0  # time constants from a hit to the next: 95 % recovered


def propose(mic, own_peaks_db: list[float], gap_s: float) -> Finding | None:
    """Return shaper and compressor for one shell mic.

    own_peaks_db : peaks of its hits where the compressor will see them; gap_s : usual time to the next own hit.
    """
    if not own_peaks_db or not (mic.piece in ("kick", "snare") or is_tom(mic.piece)):
        return None
    ratio, attack = (4.0, 20.0) if mic.piece == "snare" else (4.0, 15.0) if mic.piece == "kick" else (3.0, 20.0)
    if mic.role in ("bottom", "sub"):
        ratio = 3.0
    typical = float(np.median(own_peaks_db))
    # (L - T)(1 - 1/R) = wanted; the attack lets part of the peak through, so the threshold lies lower than the curve says.
    threshold = typical - WANTED_REDUCTION_DB / (1 - 1 / ratio) - 4.0
    release = float(np.clip(gap_s * 1000 / RECOVERY, SHORTEST_RELEASE_MS, LONGEST_RELEASE_MS))
    compressor = CompressorSettings(
        on=True,
        threshold_db=round(min(max(threshold, -60.0), 0.0), 1),
        ratio=ratio,
        attack_ms=attack,
        release_ms=round(release),
        makeup_db=2.0,
    )
    shaper = ShaperSettings(on=True, attack_db=3.0, sustain_db=-2.0 if is_tom(mic.piece) else 0.0)
    return Finding(
        "punch",
        f"punch:{mic.id}",
        mic.id,
        f"{mic.name}: attack +3 dB, {ratio:g}:1 at {compressor.threshold_db:.0f} dB",
        f"Its hits peak at {typical:.1f} dBFS here; the next own hit comes after {gap_s * 1000:.0f} ms, so a release of"
        f" {compressor.release_ms:.0f} ms has recovered 95 % by then.",
        {f"mics.{mic.id}.shaper": shaper.to_json(), f"mics.{mic.id}.compressor": compressor.to_json()},
    )
