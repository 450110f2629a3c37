"""What clips or limits a hit on its way to the kit, measured by what each such tool takes off its peak."""

from collections.abc import Mapping, Sequence

import numpy as np

from arkund.core.card.measure import LEAST_HITS, peaks_db
from arkund.core.card.sound import STRONG
from arkund.core.rig.places import KIT
from arkund.core.tools.tool import Tool

CUTS = ("grit", "limiter")
PEAK_MS = (-1.0, 15.0)
LOUDEST = 0.9  # of all hits


def taken_db(
    row: Sequence[np.ndarray], tools: Sequence[Tool], times_s: Sequence[float], sample_rate_hz: int
) -> np.ndarray:
    """Return what a row of tools clips off each hit, in dB [shape=(hits,)]: the peak before each clipper, saturation or limiter against that behind it.

    row : what comes into the row and then what each of its tools that are on gives, float32 [shape=(samples, channels)]; tools : those that are on.
    A tool's own output gain is left out, and what it adds counts as nothing; so does a hit that is cut off by the span's edge.
    """
    out = np.zeros(len(times_s))
    inside = np.array([bool(peaks_db(row[0], [t], *PEAK_MS, sample_rate_hz)) for t in times_s], bool)
    for before, after, tool in zip(row, row[1:], tools, strict=False):
        if tool.kind in CUTS:
            peaks = (np.array(peaks_db(x, times_s, *PEAK_MS, sample_rate_hz)) for x in (before, after))
            out[inside] += np.maximum(np.subtract(*peaks) + getattr(tool, "output_db", 0.0), 0.0)
    return out


def clipping(taken: Mapping[str, np.ndarray]) -> dict[str, float | None]:
    """Return what is clipped off the median hit and off the loudest tenth, in dB, of what is taken off all hits of each drum; the worse drum counts."""
    told = [mine for mine in taken.values() if mine.size >= LEAST_HITS]
    if not told:
        return {"clip_usual": None, "clip_loudest": None}
    return {
        "clip_usual": max(float(np.median(mine)) for mine in told),
        "clip_loudest": max(float(np.quantile(mine, LOUDEST)) for mine in told),
    }


def loudest_db(x: np.ndarray, times_s: Sequence[float], sample_rate_hz: int) -> float | None:
    """Return the peak in dBFS that the loudest tenth of some hits reaches; None where they are too few."""
    peaks = peaks_db(x, times_s, *PEAK_MS, sample_rate_hz)
    return float(np.quantile(peaks, LOUDEST)) if len(peaks) >= LEAST_HITS else None


def pieces_at(strip: str) -> tuple[str, ...]:
    """Return the drums whose hits tell what a strip's clipper does: a group's own, those of kick and snare over the kit."""
    return STRONG if strip == KIT else (strip.removeprefix("group:"),)
