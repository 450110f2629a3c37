"""Trims that bring each mic's own hits into the target window."""

from arkund.core.findings import Finding
from arkund.core.level.measure import MicLevel
from arkund.core.level.settings import Window

LEAVE_WITHIN_DB = 0.5


def propose(plan, levels: dict[str, MicLevel], window: Window) -> list[Finding]:
    """Return a trim for each mic outside the window, and a note for each clipped one."""
    out = []
    for mic in plan.mics:
        level = levels.get(mic.id)
        if level is None or not level.hit_peaks_db:
            continue
        low, high = window.of(mic.piece)
        now = level.typical_db + mic.trim_db
        if not low - LEAVE_WITHIN_DB <= now <= high + LEAVE_WITHIN_DB:
            trim = round(min(max((low + high) / 2 - level.typical_db, -40.0), 40.0), 1)
            out.append(
                Finding(
                    "level",
                    f"level:trim:{mic.id}",
                    mic.id,
                    f"{mic.name}: trim {trim:+.1f} dB",
                    f"Its own hits peak at {now:.1f} dBFS (90 % stay below; {len(level.hit_peaks_db)} hits measured);"
                    f" the window is {low:.0f} to {high:.0f} dBFS.",
                    {f"mics.{mic.id}.trim_db": trim},
                )
            )
        if level.clipped_at_s:
            out.append(
                Finding(
                    "level",
                    f"level:clip:{mic.id}",
                    mic.id,
                    f"{mic.name}: clipped at {level.clipped_places} places",
                    f"Flat tops at full scale, first at {level.clipped_at_s[0]:.3f} s. A trim lowers the level but does not"
                    " bring the tops back; prefer another take or a replaced hit there.",
                    first_choice=False,
                )
            )
    return out
