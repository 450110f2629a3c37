"""Notes on bars whose strokes stick out, and on bars that are played in triplets."""

from collections.abc import Sequence

import numpy as np

from arkund.core.findings import Finding
from arkund.core.timing.bars import bars_of
from arkund.core.timing.measure import Deviation
from arkund.core.timing.strokes import strokes
from arkund.core.timing.tempo import MapGuess

OUTLIER_MS = 18.0
WORTH_SAYING = 0.6  # of the hits must lie on a tempo map for it to be proposed
LINES_OFF_MS, TEMPO_OFF_BPM = 25.0, 0.2


def propose_tempo(tempo, guess: MapGuess | None) -> list[Finding]:
    """Return the tempo map that the hits tell, where the Plan's bar lines lie elsewhere."""
    if guess is None or guess.score < WORTH_SAYING:
        return []
    mine, theirs = bars_of(tempo), bars_of(guess.tempo)
    off = min(abs(mine.start_s(0) - theirs.start_s(turn)) for turn in (-1, 0, 1))
    if off * 1000 < LINES_OFF_MS and abs(tempo.bpm - guess.tempo.bpm) < TEMPO_OFF_BPM and not guess.tempo.changes:
        return []
    if tempo == guess.tempo or (tempo.changes and not guess.sure):
        return []
    return [
        Finding(
            "timing",
            "timing:tempo",
            "0",
            f"Tempo map of the hits: {guess.tempo.bpm:.2f} BPM, first bar at {guess.tempo.first_bar_s:.3f} s",
            f"{guess.words} The bar lines now lie {off * 1000:.0f} ms from it at the first bar.",
            {"tempo": guess.tempo.to_json()},
            first_choice=False,
        )
    ]


def propose(rows: Sequence[Deviation]) -> list[Finding]:
    """Return notes on bars in which strokes of kick or snare lie far from the grid; moving them stays a decision."""
    out = []
    # A flam's grace note is meant to be early: of each stroke only what leads it counts.
    leads = [stroke.lead for stroke in strokes(rows)]
    main = [d for d in leads if d.piece in ("kick", "snare") and not d.ghost]
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
