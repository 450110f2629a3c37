"""Hits that are missing or too weak, against what is played elsewhere at the same place of the bar, with what would put them right."""

from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np

from arkund.core.findings import Finding
from arkund.core.plan.plan import Plan
from arkund.core.replace.copies import Copy, changes_of, copy_to, is_put
from arkund.core.replace.missing import GRID, missing
from arkund.core.timing.bars import bars_of
from arkund.core.timing.measure import deviations

WEAK_DB = 9.0  # below the piece's usual level at that place
LEAST_BARS = 6
USUAL_SHARE = 0.85  # of the bars that play a place, for it to be expected
MOST_TOLD = 4  # bars that are named as examples


def propose(plan: Plan, recorded: Mapping[str, Sequence], heard: Mapping[str, Sequence], rate: int) -> list[Finding]:
    """Return notes on kicks and snares that are missing, and on back-beats that are far weaker than elsewhere; replacing them stays a decision.

    recorded, heard : the same hits in the time of the recording and where they sound after the edits
    """
    back = _Back(recorded, heard)
    found = _missing(plan, recorded, heard, rate, back) + _weak(plan, recorded, heard, rate, back)
    return [finding for _, finding in sorted(found, key=lambda row: row[0])]


class _Back:
    """From where something sounds to where it is in the recording: as the stroke nearest to it was moved."""

    def __init__(self, recorded: Mapping[str, Sequence], heard: Mapping[str, Sequence]) -> None:
        pairs = sorted(
            (b.time_s, a.time_s) for piece in heard for a, b in zip(recorded[piece], heard[piece], strict=True)
        )
        self._heard, self._recorded = (np.array(each) for each in zip(*pairs, strict=True)) if pairs else ([], [])

    def to_recording(self, time_s: float) -> float:
        """Return the time in the recording."""
        if not len(self._heard):
            return time_s
        near = int(np.argmin(np.abs(self._heard - time_s)))
        return time_s - float(self._heard[near] - self._recorded[near])


def _note(plan: Plan, kind: str, bar: int, place: float, copy: Copy | None, title: str, why: str, rate: int) -> Finding:
    if copy is None:
        changes, what = {}, " No hit in the bars like this one can be copied: each is too near to its next stroke."
    else:
        changes = changes_of(plan, copy, rate)
        along = f", with the {' and '.join(copy.others)} that sounds there" if copy.others else ""
        what = (
            f" Doing it copies the hit at {copy.from_s:.2f} s in all mics, {1000 * copy.length_s:.0f} ms of it{along}."
        )
    return Finding(
        "replace", f"replace:{kind}:{bar}:{place:g}", str(bar), title, why + what, changes, first_choice=False
    )


def _missing(plan, recorded, heard, rate: int, back: _Back) -> list[tuple[float, Finding]]:
    bars, out = bars_of(plan.tempo), []
    for each in missing(heard, plan.tempo, plan.meant):
        sources = [back.to_recording(bars.start_s(other) + each.place * bars.of(other).beat_s) for other in each.alike]
        copy = copy_to(each.piece, back.to_recording(each.time_s), each.level_db, sources, recorded)
        if copy and is_put(plan, copy, rate):
            continue
        named = ", ".join(str(other + 1) for other in sorted(each.alike[:MOST_TOLD]))
        title = f"Bar {each.bar + 1}: {each.piece} missing on beat {each.place + 1:g}"
        why = f"{len(each.alike)} bars like it have one there (bars {named}); nothing else is struck instead."
        out.append((each.time_s, _note(plan, "missing", each.bar, each.place, copy, title, why, rate)))
    return out


def _weak(plan, recorded, heard, rate: int, back: _Back) -> list[tuple[float, Finding]]:
    rows = [d for d in deviations({"snare": heard.get("snare", [])}, plan.tempo, GRID, plan.meant) if not d.ghost]
    bars = sorted({d.bar for d in deviations(heard, plan.tempo, GRID, plan.meant) if d.bar >= 0})
    if len(bars) < LEAST_BARS:
        return []
    level = {h.time_s: h.level_db for h in heard.get("snare", [])}
    places = Counter(round(d.meant, 3) for d in rows)
    usual = [place for place, count in places.items() if count >= USUAL_SHARE * len(bars)]
    out = []
    for place in usual:
        at_place = {d.bar: d for d in rows if abs(d.meant - place) < 1e-3}
        median = float(np.median([level[d.time_s] for d in at_place.values()]))
        for bar in bars[:-1]:
            found = at_place.get(bar)
            if found is None or level[found.time_s] >= median - WEAK_DB:
                continue
            others = sorted((d for d in at_place.values() if d.bar != bar), key=lambda d: abs(d.bar - bar))
            to_s = back.to_recording(found.time_s)
            copy = copy_to("snare", to_s, median, [back.to_recording(d.time_s) for d in others], recorded)
            if copy and is_put(plan, copy, rate):
                continue
            title = f"Bar {bar + 1}: weak snare on beat {place + 1:g}"
            why = f"{median - level[found.time_s]:.0f} dB below the usual hit at this place."
            out.append((found.time_s, _note(plan, "weak", bar, place, copy, title, why, rate)))
    return out
