"""Hits that are missing or too weak, against what is played elsewhere at the same place of the bar."""

from collections import Counter

import numpy as np

from arkund.core.findings import Finding
from arkund.core.timing.measure import deviations

WEAK_DB = 9.0  # below the piece's usual level at that place
LEAST_BARS = 6
USUAL_SHARE = 0.85  # of the bars that play a place, for it to be expected


def propose(hits: dict, tempo, grid: int = 8) -> list[Finding]:
    """Return notes on backbeats that are far weaker than elsewhere; replacing them stays a decision.

    One that is not there at all is no note: where the drummer plays a fill it is meant, and from the hits alone the two look the same.
    """
    rows = [d for d in deviations({"snare": hits.get("snare", [])}, tempo, grid) if not d.ghost]
    bars = sorted({d.bar for d in deviations(hits, tempo, grid) if d.bar >= 0})
    if len(bars) < LEAST_BARS:
        return []
    level = {h.time_s: h.level_db for h in hits.get("snare", [])}
    places = Counter(round(d.meant, 3) for d in rows)
    usual = [place for place, count in places.items() if count >= USUAL_SHARE * len(bars)]
    out = []
    for place in sorted(usual):
        at_place = {d.bar: d for d in rows if abs(d.meant - place) < 1e-3}
        median = float(np.median([level[d.time_s] for d in at_place.values()]))
        for bar in bars[:-1]:
            found = at_place.get(bar)
            if found is not None and level[found.time_s] < median - WEAK_DB:
                title = f"Bar {bar + 1}: weak snare on beat {place + 1:g}"
                evidence = f"{median - level[found.time_s]:.0f} dB below the usual hit at this place."
                out.append(
                    Finding("replace", f"replace:{bar}:{place:g}", str(bar), title, evidence, first_choice=False)
                )
    return out
