"""Mics at hats and ride ducked by the strikes of kick and snare, where hits do not stand out, or hats are softer than what their own mics hear of back-beats.

A **dip** is over by the time a hit sounds: a stroke that leads one by some milliseconds fills what that is to stand out of. What is **tucked under** the
snare is softer while that sounds: hats can be louder then without the bleed in their mics. Every stroke elsewhere stays as it is.
"""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from arkund.core.card.levers import Step, spots
from arkund.core.kit.pieces import timing_mic
from arkund.core.plan.plan import Plan
from arkund.core.rig import rows
from arkund.core.tools.gate import Gate
from arkund.core.tools.tool import Key

STRONG, SNARE = (
    ("kick", "snare"),
    "snare",
)  # before whose strokes they dip, and under whose they are tucked; ghosts count for neither
UNDER, UNDER_GHOSTS = "under-snare", "under-ghosts"  # ids
MOST_DB = 12.0
BELOW_DB = 1.0  # the softest stroke that counts
DUCKED = Gate(does="ducks", hysteresis_db=0.0, attack_ms=1.0, hold_ms=0.0, range_db=0.0)
# Down from 19 ms before a strike, as early as a key and a gate look, to some 4 ms before it; then back by 63 % in 5 ms.
DIP = DUCKED.replace(release_ms=5.0, lookahead_ms=10.0, key=Key(early_ms=10.0, length_ms=15.0))
TUCKED = DUCKED.replace(release_ms=40.0, lookahead_ms=1.0, key=Key(early_ms=1.0, length_ms=60.0))


def dipped(plan: Plan, hits: Mapping[str, Sequence], by_db: float) -> Step | None:
    """Return the rows of mics at hats and ride that dip by so much further before pieces whose strikes the Plan keeps; None where that changes nothing.

    hits : by piece (.level_db of the recording, .ghost)
    """
    return _ducked(plan, hits, {f"before-{piece}": (piece, DIP) for piece in STRONG}, by_db, "contrast")


def tucked(plan: Plan, hits: Mapping[str, Sequence], by_db: float) -> Step | None:
    """Return those rows tucked under the snare by so much further, or less; None where that changes nothing. hits : as above"""
    return _ducked(plan, hits, {UNDER: (SNARE, TUCKED)}, by_db, "cymbals")


def under_ghosts(plan: Plan, hits: Mapping[str, Sequence], by_db: float) -> Step | None:
    """Return rows that are tucked under back-beats tucked under ghosts too by so much further, which would come nearer in their mics; hits : as above"""
    mine = [mic for mic in spots(plan) if (tool := mic.tool(UNDER)) and tool.on]
    return _ducked(plan, hits, {UNDER_GHOSTS: (SNARE, TUCKED)}, by_db, "ghosts", ghosts=True) if mine else None


def _ducked(
    plan: Plan,
    hits: Mapping[str, Sequence],
    gates: Mapping[str, tuple[str, Gate]],
    by_db: float,
    figure: str,
    ghosts: bool = False,
) -> Step | None:
    """Return the rows of mics at hats and ride with gates, by id, that duck for a piece, of the snare also for its ghosts, by so much further."""
    values: dict[str, Any] = {}
    kept = {each.piece for each in plan.struck}
    for mic in spots(plan):
        row = mic.tools
        for tool_id, (piece, first) in gates.items():
            mine = mic.tool(tool_id) or first.replace(id=tool_id, key=first.key.replace(of=f"hits:{piece}"))
            # In tenths, finer than by hand: as the rest of the kit changes, so does this, and nothing is to jump.
            range_db = round(float(np.clip(mine.range_db + by_db, 0.0, MOST_DB)), 1)
            threshold_db = _threshold_db(plan, piece, hits, ghosts)
            if piece in kept and threshold_db is not None and range_db != mine.range_db:
                row = rows.with_own_id(
                    row, mine.replace(on=range_db > 0.0, range_db=range_db, threshold_db=threshold_db)
                )
        if row != mic.tools:
            values[f"mics.{mic.id}.tools"] = [each.to_json() for each in row]
    return Step(figure, values) if values else None


def _threshold_db(plan: Plan, piece: str, hits: Mapping[str, Sequence], ghosts: bool) -> float | None:
    """Return a level that all strikes of a piece reach as their mic is trimmed, with its ghosts or without; None where there are none."""
    strong = [hit.level_db for hit in hits.get(piece, []) if ghosts or not hit.ghost]
    if not strong:
        return None
    own, limits = timing_mic(plan.mics, piece), Gate.ranges()["threshold_db"]
    level_db = min(strong) + (own.trim_db if own else 0.0) - BELOW_DB
    return round(float(np.clip(level_db, limits.low, limits.high)), 1)
