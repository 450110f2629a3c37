"""A starting shaper and compressor per mic; the threshold is the one at which the compressor takes what is wanted from the measured hits."""

import numpy as np

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_shell, is_tom
from arkund.core.punch.measure import Taken
from arkund.core.rig import rows
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.shaper import Shaper

WANTED_REDUCTION_DB = 4.0  # at its deepest, at the usual strong hit
LONGEST_RELEASE_MS, SHORTEST_RELEASE_MS = 250.0, 50.0
RECOVERY = 3.0  # time constants from a hit to the next: 95 % recovered


def first_settings(mic, gap_s: float) -> tuple[Shaper, Compressor] | None:
    """Return shaper and compressor for one shell mic, but for the threshold, which is to be measured; None for what is no shell.

    gap_s : usual time to the next own hit
    """
    if not is_shell(mic.piece):
        return None
    ratio, attack_ms = (4.0, 20.0) if mic.piece == "snare" else (4.0, 15.0) if mic.piece == "kick" else (3.0, 20.0)
    if mic.role in ("bottom", "sub"):
        ratio = 3.0
    release_ms = round(float(np.clip(gap_s * 1000 / RECOVERY, SHORTEST_RELEASE_MS, LONGEST_RELEASE_MS)))
    compressor = Compressor(on=True, ratio=ratio, attack_ms=attack_ms, release_ms=release_ms, makeup_db=2.0)
    return Shaper(on=True, attack_db=3.0, sustain_db=-2.0 if is_tom(mic.piece) else 0.0), compressor


def propose(mic, shaper: Shaper, compressor: Compressor, found: Taken) -> Finding:
    """Return shaper and compressor as a Finding. found : what the compressor takes at this threshold"""
    return Finding(
        "punch",
        f"punch:{mic.id}",
        mic.id,
        f"{mic.name}: attack {shaper.attack_db:+g} dB, {compressor.ratio:g}:1 at {compressor.threshold_db:.0f} dB",
        f"Measured at its own hits it takes {found.deepest_db:.1f} dB; {found.after_s * 1000:.0f} ms later, before the next one comes, a release of"
        f" {compressor.release_ms:.0f} ms has left {found.left_db:.1f} dB of it.",
        rows.put_all(f"mics.{mic.id}", mic, shaper, compressor),
    )
