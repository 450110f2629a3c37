"""Notes on bars whose strokes stick out, and on bars that are played in triplets."""

from collections.abc import Sequence

import numpy as np

from arkund.core.findings import Finding
from arkund.core.timing.bars import bar_s, bars_of
from arkund.core.timing.measure import Deviation
from arkund.core.timing.meter import MeterGuess
from arkund.core.timing.strokes import strokes
from arkund.core.timing.tempo import MapGuess

OUTLIER_MS = 18.0
WORTH_SAYING = 0.6  # of the hits must lie on a tempo map for it to be proposed
LINES_OFF_MS = 25.0  # at the first bar, or after some DRIFT_BARS
DRIFT_BARS = 32


def propose_tempo(tempo, guess: MapGuess | None, meter: MeterGuess | None = None) -> list[Finding]:
    """Return the tempo map that the hits tell, where the Plan's bar lines lie elsewhere or its bars are counted otherwise."""
    if guess is None or guess.score < WORTH_SAYING:
        return []
    mine, theirs = bars_of(tempo), bars_of(guess.tempo)
    counted = "/".join(map(str, (guess.tempo.beats_per_bar, guess.tempo.beat_unit)))
    same = (tempo.beats_per_bar, tempo.beat_unit) == (guess.tempo.beats_per_bar, guess.tempo.beat_unit)
    off = min(abs(mine.start_s(0) - theirs.start_s(turn)) for turn in (-1, 0, 1))
    if same and off * 1000 < LINES_OFF_MS and _drifts_ms(tempo, guess) < LINES_OFF_MS and not guess.tempo.changes:
        return []
    if tempo == guess.tempo or (tempo.changes and not guess.sure):
        return []
    words = f"{guess.words} The bar lines now lie {off * 1000:.0f} ms from it at the first bar."
    if not same and meter is not None:
        words = f"{meter.words} {words}"
    return [
        Finding(
            "timing",
            "timing:tempo",
            "0",
            f"Tempo map of the hits: {guess.tempo.bpm:.2f} BPM{'' if same else f' in {counted}'}, first bar at {guess.tempo.first_bar_s:.3f} s",
            words,
            {"tempo": guess.tempo.to_json()},
            first_choice=False,
        )
    ]


def _drifts_ms(tempo, guess: MapGuess) -> float:
    """Return how far two tempos lie apart after DRIFT_BARS bars, in ms."""
    return abs(bar_s(tempo) - bar_s(guess.tempo)) * DRIFT_BARS * 1000.0


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
