"""Where a mic is cut by hits: from each hit to the end of its ring, what is near each other as one."""

from collections.abc import Sequence

from arkund.core.clean.ring import Ringing
from arkund.core.tools.regions import Regions

TOGETHER_MS = 140.0  # rolls, flams and ghosts in a row keep one region


def spans(
    times_s: Sequence[float], ringing: Ringing, settings: Regions, sample_rate_hz: int
) -> tuple[tuple[int, int], ...]:
    """Return regions in samples of the recording: each from a hit's first sample to the end of its ring; those that follow each other at once are one."""
    near = (TOGETHER_MS + settings.lead_ms + settings.fade_in_ms) / 1000.0
    out: list[list[float]] = []
    for start, stop in zip(times_s, ringing.ends_s, strict=True):
        if out and start - out[-1][1] < near:
            out[-1][1] = max(out[-1][1], stop)
        else:
            out.append([start, stop])
    whole = [(max(round(a * sample_rate_hz), 0), round(b * sample_rate_hz)) for a, b in out]
    return tuple((a, b) for a, b in whole if b > a)
