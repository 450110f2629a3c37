"""Mics at hats and ride dip just before kicks and back-beats: a stroke that leads one by some milliseconds fills what that is to stand out of.

It is on its way back as the hit begins and over 10 ms later: the ring of what is struck together with it, and every stroke elsewhere, stay as they are.
"""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from arkund.core.card.levers import Step, spots
from arkund.core.kit.pieces import timing_mic
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.rig import rows
from arkund.core.tools.gate import Gate
from arkund.core.tools.tool import Key

STRONG = ("kick", "snare")  # before whose strokes they dip; ghosts stay as they are
MOST_DB = 6.0
BELOW_DB = 1.0  # the softest stroke that counts
# Down from 19 ms before a strike, as early as a key and a gate look, to some 4 ms before it; then back by 63 % in 5 ms.
TOOL = Gate(
    on=True,
    does="ducks",
    hysteresis_db=0.0,
    attack_ms=1.0,
    hold_ms=0.0,
    release_ms=5.0,
    lookahead_ms=10.0,
    key=Key(early_ms=10.0, length_ms=15.0),
)


def tool_id(piece: str) -> str:
    """Return the id of the gate that dips before a piece."""
    return f"before-{piece}"


def dipped(plan: Plan, hits: Mapping[str, Sequence], by_db: float) -> Step | None:
    """Return the rows of mics at hats and ride that dip by so much further before pieces whose strikes the Plan keeps; None where that changes nothing.

    hits : by piece (.level_db of the recording, .ghost)
    """
    values: dict[str, Any] = {}
    kept = {each.piece for each in plan.struck}
    for mic in spots(plan):
        row = mic.tools
        for piece in STRONG:
            strong = [hit.level_db for hit in hits.get(piece, []) if not hit.ghost]
            if piece in kept and strong:
                row = rows.with_own_id(row, _further(plan, mic, piece, min(strong), by_db))
        if row != mic.tools:
            values[f"mics.{mic.id}.tools"] = [each.to_json() for each in row]
    return Step("contrast", values) if values else None


def _further(plan: Plan, mic: MicPlan, piece: str, softest_db: float, by_db: float) -> Gate:
    """Return the gate of a mic that dips before a piece, by so much further."""
    mine = mic.tool(tool_id(piece)) or TOOL.replace(
        id=tool_id(piece), range_db=0.0, key=TOOL.key.replace(of=f"hits:{piece}")
    )
    own = timing_mic(plan.mics, piece)
    limits = Gate.ranges()["threshold_db"]
    threshold = np.clip(softest_db + (own.trim_db if own else 0.0) - BELOW_DB, limits.low, limits.high)
    # In tenths, finer than by hand: as the rest of the kit changes, so does this, and nothing is to jump.
    return mine.replace(range_db=round(min(mine.range_db + by_db, MOST_DB), 1), threshold_db=round(float(threshold), 1))
