"""The kit's expander: what is left of one hit before the next one, softer, so that hits stand out of it; every stroke stays as it is."""

from dataclasses import dataclass

import numpy as np

from arkund.core.card.measure import BEFORE_MS, HIT_MS, LEAD_MS, Sound, spans, strong_times
from arkund.core.plan.plan import Plan
from arkund.core.rig import rows
from arkund.core.tools.gate import Gate
from arkund.core.units import gain_to_db

BETWEEN = "between"  # its id
RATIO, MOST_DB = 3.0, 12.0
BELOW_STROKES_DB = 3.0
SOFTEST_SHARE = 10.0  # in %: of the strokes, how many may be softer than the softest that counts
TOOL = Gate(
    id=BETWEEN, on=True, ratio=RATIO, hysteresis_db=0.0, hold_ms=5.0, attack_ms=0.1, release_ms=50.0, range_db=0.0
)


@dataclass(frozen=True, slots=True)
class Floor:
    """Peaks of what comes into the kit, in dBFS: what is left before kicks and back-beats, the median; the softest strokes of all drums and cymbals."""

    before_db: float
    softest_db: float

    @property
    def room_db(self) -> float:
        """How far the expander may close without touching a stroke."""
        return float(np.clip((RATIO - 1.0) * (self.softest_db - BELOW_STROKES_DB - self.before_db), 0.0, MOST_DB))


def floor(sound: Sound) -> Floor | None:
    """Return what lies between hits and what must not be touched, None where nothing is played or nothing heard. sound : what comes into the kit"""
    x, rate = np.abs(sound.audio).max(axis=1), sound.sample_rate_hz
    every = [h.time_s for mine in sound.hits.values() for h in mine]
    before = [part.max() for part in spans(x, strong_times(sound.hits), -BEFORE_MS, -LEAD_MS, rate)]
    strokes = [part.max() for part in spans(x, every, 0.0, HIT_MS, rate)]
    if not before or not strokes:
        return None
    levels = np.median(before), np.percentile(strokes, SOFTEST_SHARE)
    return Floor(*(float(gain_to_db(level + 1e-9)) for level in levels))


def closing_db(plan: Plan) -> float:
    """Return how far the kit's expander closes now."""
    mine = plan.kit.tool(BETWEEN)
    return mine.range_db if mine and mine.on else 0.0


def closed_further(plan: Plan, found: Floor, by_db: float) -> list[dict] | None:
    """Return the kit's row with an expander that closes by so much further, as far as strokes stay above it; None where that changes nothing.

    It closes all the way at what is left before hits: with a ratio of r a range of R is reached R / (r - 1) below the threshold.
    """
    now = closing_db(plan)
    wanted = round(max(min(now + by_db, found.room_db), 0.0), 1)
    if not wanted and not now:
        return None
    limits = Gate.ranges()["threshold_db"]
    threshold = float(np.clip(found.before_db + wanted / (RATIO - 1.0), limits.low, limits.high))
    # In tenths, finer than by hand: as the rest of the kit changes, so does this, and nothing is to jump.
    mine = plan.kit.tool(BETWEEN) or TOOL
    tool = mine.replace(on=wanted > 0.0, range_db=wanted, threshold_db=round(threshold, 1))
    return [each.to_json() for each in rows.with_own_id(plan.kit.tools, tool)]
