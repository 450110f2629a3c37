"""Mics at hats and ride ducked by the strikes of kick and snare, where hits do not stand out, or hats are softer than what their own mics hear of back-beats.

A **dip** is over by the time a hit sounds: a stroke that leads one by some milliseconds fills what that is to stand out of. What is **tucked under** the
snare is softer while that sounds: hats can be louder then without the bleed in their mics. Every stroke elsewhere stays as it is.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from arkund.core.card.levers import Step, spots
from arkund.core.card.measure import STRONG
from arkund.core.kit.pieces import timing_mic
from arkund.core.plan.plan import Plan
from arkund.core.rig import rows
from arkund.core.tools.gate import Gate
from arkund.core.tools.tool import Key

SNARE = "snare"  # under whose strokes they are tucked
MOST_DB = 12.0
BELOW_DB = 1.0  # the softest stroke that counts
DUCKS = Gate(does="ducks", hysteresis_db=0.0, attack_ms=1.0, hold_ms=0.0, range_db=0.0)
# Down from 19 ms before a strike, as early as a key and a gate look, to some 4 ms before it; then back by 63 % in 5 ms.
DIPS = DUCKS.replace(release_ms=5.0, lookahead_ms=10.0, key=Key(early_ms=10.0, length_ms=15.0))
TUCKS = DUCKS.replace(release_ms=40.0, lookahead_ms=1.0, key=Key(early_ms=1.0, length_ms=60.0))


@dataclass(frozen=True, slots=True)
class Duck:
    """A gate of mics at hats and ride that ducks for the strikes of a piece, of its ghosts too or not."""

    id: str
    piece: str
    first: Gate
    ghosts: bool = False


BEFORE = tuple(Duck(f"before-{piece}", piece, DIPS) for piece in STRONG)
UNDER, UNDER_GHOSTS = Duck("under-snare", SNARE, TUCKS), Duck("under-ghosts", SNARE, TUCKS, ghosts=True)


def dipped(plan: Plan, hits: Mapping[str, Sequence], by_db: float) -> Step | None:
    """Return the rows of mics at hats and ride that dip by so much further before pieces whose strikes the Plan keeps; None where that changes nothing.

    hits : by piece (.level_db of the recording, .ghost)
    """
    return _step("contrast", _further(plan, hits, BEFORE, by_db))


def tucked(plan: Plan, hits: Mapping[str, Sequence], by_db: float) -> Step | None:
    """Return those rows tucked under back-beats by so much further, or less; None where that changes nothing. hits : as above"""
    return _step("cymbals", _further(plan, hits, (UNDER,), by_db))


def under_ghosts(plan: Plan, hits: Mapping[str, Sequence], by_db: float) -> Step | None:
    """Return rows that are tucked under back-beats tucked under ghosts too, by so much further: in their mics ghosts came nearer; hits : as above"""
    under = any((tool := mic.tool(UNDER.id)) and tool.on for mic in spots(plan))
    return _step("ghosts", _further(plan, hits, (UNDER_GHOSTS,), by_db)) if under else None


def _step(figure: str, values: dict[str, Any]) -> Step | None:
    return Step(figure, values) if values else None


def _further(plan: Plan, hits: Mapping[str, Sequence], ducks: Sequence[Duck], by_db: float) -> dict[str, Any]:
    """Return the rows of mics at hats and ride that duck by so much further."""
    values: dict[str, Any] = {}
    kept = {each.piece for each in plan.struck}
    for mic in spots(plan):
        row = mic.tools
        for duck in ducks:
            threshold_db = _threshold_db(plan, duck, hits) if duck.piece in kept else None
            mine = mic.tool(duck.id) or duck.first.replace(
                id=duck.id, key=duck.first.key.replace(of=f"hits:{duck.piece}")
            )
            # In tenths, finer than by hand: as the rest of the kit changes, so does this, and nothing is to jump.
            down_db = round(float(np.clip(mine.range_db + by_db, 0.0, MOST_DB)), 1)
            if threshold_db is not None and down_db != mine.range_db:
                row = rows.with_own_id(row, mine.replace(on=down_db > 0.0, range_db=down_db, threshold_db=threshold_db))
        if row != mic.tools:
            values[f"mics.{mic.id}.tools"] = [each.to_json() for each in row]
    return values


def _threshold_db(plan: Plan, duck: Duck, hits: Mapping[str, Sequence]) -> float | None:
    """Return a level that all strikes reach for which a mic ducks, as their own mic is trimmed; None where there are none."""
    levels_db = [hit.level_db for hit in hits.get(duck.piece, []) if duck.ghosts or not hit.ghost]
    if not levels_db:
        return None
    own, limits = timing_mic(plan.mics, duck.piece), Gate.ranges()["threshold_db"]
    level_db = min(levels_db) + (own.trim_db if own else 0.0) - BELOW_DB
    return round(float(np.clip(level_db, limits.low, limits.high)), 1)
