"""Cuts that pull a range of bars to the grid, all mics together, and notes on hits that stick out."""

from collections.abc import Mapping, Sequence

import numpy as np

from arkund.core.findings import Finding
from arkund.core.plan.plan import Cut
from arkund.core.timing.measure import Deviation, bar_start_s, beat_s, deviations
from arkund.core.timing.settings import QuantiseSettings

TOGETHER_S = 0.035  # hits this near belong to one stroke of the kit and move together
BEFORE_S = 0.004  # a cut lies this much before the earliest of them
OUTLIER_MS = 18.0
LEADERS = ("snare", "kick", "tom1", "tom2", "tom3", "tom4", "floor", "crash", "ride", "hihat")


def quantise(
    hits: Mapping[str, Sequence], tempo, settings: QuantiseSettings, before: Sequence[Cut], rate: int
) -> tuple:
    """Return the Plan's cuts with a range of bars pulled to the grid.

    Hits that sound together move together, led by the snare or the kick. Nothing after the last bar of the range moves: the
    last cut brings the shift back to what it was.
    """
    low = bar_start_s(tempo, settings.first_bar) - 0.5 * beat_s(tempo) * tempo.beat_unit / settings.grid
    high = bar_start_s(tempo, settings.last_bar + 1) - 0.5 * beat_s(tempo) * tempo.beat_unit / settings.grid
    rows = [d for d in deviations(hits, tempo, settings.grid) if low <= d.time_s < high and not d.ghost]
    kept = [cut for cut in before if not low * rate <= cut.at < high * rate]
    strokes = _strokes(rows)
    cuts, last = [], None
    for group in strokes:
        lead = min(group, key=lambda d: LEADERS.index(d.piece) if d.piece in LEADERS else 99)
        off = lead.off_ms
        move = 0.0
        if settings.tolerance_ms < abs(off) <= settings.most_ms:
            move = -off * settings.strength / 100.0
        shift = round(move / 1000.0 * rate)
        at = round((group[0].time_s - BEFORE_S) * rate)
        if last is not None and at <= last:
            continue
        last = at
        cuts.append(Cut(at=max(at, 0), shift=shift))
    after = [cut.shift for cut in kept if cut.at < high * rate]
    base = after[-1] if after else 0
    if cuts:
        following = [h.time_s for hs in hits.values() for h in hs if h.time_s >= high]
        end = min(following, default=high + BEFORE_S) - BEFORE_S
        end_at = max(round(min(end, high + 1.0) * rate), cuts[-1].at + 1)
        kept = [cut for cut in kept if not cuts[0].at <= cut.at <= end_at]
        cuts.append(Cut(at=end_at, shift=base))
    return tuple(_simplified(sorted((*kept, *cuts), key=lambda cut: cut.at)))


def _strokes(rows: Sequence[Deviation]) -> list[list[Deviation]]:
    out: list[list[Deviation]] = []
    for d in rows:
        if out and d.time_s - out[-1][0].time_s <= TOGETHER_S:
            out[-1].append(d)
        else:
            out.append([d])
    return out


def _simplified(cuts: Sequence[Cut]) -> list[Cut]:
    out: list[Cut] = []
    for cut in cuts:
        if cut.shift != (out[-1].shift if out else 0):
            out.append(cut)
    return out


def propose(rows: Sequence[Deviation]) -> list[Finding]:
    """Return notes on bars in which strokes of kick or snare lie far from the grid; moving them stays a decision."""
    out = []
    main = [d for d in rows if d.piece in ("kick", "snare") and not d.ghost]
    for bar in sorted({d.bar for d in main}):
        far = [d for d in main if d.bar == bar and abs(d.off_ms) >= OUTLIER_MS]
        if not far:
            continue
        worst = max(far, key=lambda d: abs(d.off_ms))
        mean = float(np.mean([d.off_ms for d in main if d.bar == bar]))
        out.append(
            Finding(
                "timing",
                f"timing:bar:{bar}",
                str(bar),
                f"Bar {bar + 1}: {worst.piece} {worst.off_ms:+.0f} ms",
                f"{_strokes_lie(len(far))} {OUTLIER_MS:.0f} ms or more off; the bar as a whole {mean:+.0f} ms.",
                first_choice=False,
            )
        )
    return out


def _strokes_lie(count: int) -> str:
    return "1 stroke of kick or snare lies" if count == 1 else f"{count} strokes of kick or snare lie"
