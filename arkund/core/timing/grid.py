"""The places of a bar where strokes are meant to fall, and what the drummer meant: straight or triplet."""

from collections.abc import Mapping, Sequence

import numpy as np

from arkund.core.timing.bars import Bars, is_compound

STRAIGHT, TRIPLET = 16, 12  # places per whole note that are tried
CLEAR_MS = 4.0  # the better fit must be this much nearer on the mean
LEAST_OFF_BEAT = 2  # strokes between the eighths that decide
SWING_EVEN = 50.0


def places(beats: int, beat_unit: int, grid: int, swing_percent: float = SWING_EVEN) -> np.ndarray:
    """Return the places of a bar in beats from its line, the next bar's first one included.

    grid : places per whole note; swing_percent : where every second place falls between its neighbours, 50 = even, 66.7 = triplet feel
    """
    step = beat_unit / grid
    count = max(round(beats / step), 1)
    out = np.arange(count + 1) * step
    out[1:count:2] += (swing_percent / SWING_EVEN - 1.0) * step
    out[count] = beats
    return out


def meant_grid(plan, bar: int, otherwise: int) -> int:
    """Return the grid that the engineer set for a bar, or another."""
    return next((m.grid for m in plan.meant if m.bar == bar), otherwise)


def guess(hits: Mapping[str, Sequence], bars: Bars) -> dict[int, int]:
    """Return for each played bar whether its strokes lie on sixteenths (16) or on eighth triplets (12); bars that do not tell are left out.

    Only strokes away from the beats decide: the beats belong to both. A bar is triplet where they lie nearer to thirds.
    """
    times = np.array(sorted(h.time_s for hs in hits.values() for h in hs))
    if not times.size:
        return {}
    out: dict[int, int] = {}
    numbers = bars.bar_of(times)
    for bar in np.unique(numbers):
        if bar < 0:
            continue
        mine, stretch = times[numbers == bar], bars.of(int(bar))
        if is_compound(stretch.beats, stretch.beat_unit):
            continue  # it is in thirds anyway
        place = (mine - bars.start_s(int(bar))) / stretch.beat_s * (4 / stretch.beat_unit)
        part = place % 1.0
        off = np.minimum.reduce([np.abs(part), np.abs(part - 1.0), np.abs(part - 0.5)])
        part = part[off > 0.1]
        if part.size < LEAST_OFF_BEAT:
            continue
        to_ms = stretch.beat_s * stretch.beat_unit / 4 * 1000
        straight = np.mean(np.minimum(np.abs(part - 0.25), np.abs(part - 0.75))) * to_ms
        triplet = np.mean(np.minimum(np.abs(part - 1 / 3), np.abs(part - 2 / 3))) * to_ms
        if abs(straight - triplet) >= CLEAR_MS:
            out[int(bar)] = STRAIGHT if straight < triplet else TRIPLET
    return out
