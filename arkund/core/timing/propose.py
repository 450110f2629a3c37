"""Notes on bars whose strokes stick out, and on bars that are played in triplets."""

from collections.abc import Sequence

import numpy as np

from arkund.core.findings import Finding
from arkund.core.timing.measure import Deviation

OUTLIER_MS = 18.0


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
