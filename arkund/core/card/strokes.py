"""What strokes are corrected by: more attack or body, what they are to stand out of, ghosts, and the hat in the snare's mic. Pure changes of a Plan."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from arkund.core.card.levers import (
    MOST_STEP_DB,
    OVERHEADS,
    ROOMS,
    WASH,
    Step,
    group_named,
    lost_share,
    softer_sustain,
    softer_wash,
    spots,
)
from arkund.core.card.measure import STRONG
from arkund.core.clean.settings import DEPTH, cleans
from arkund.core.kit.pieces import timing_mic
from arkund.core.plan.plan import Group, MicPlan, Plan
from arkund.core.rig import rows
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key

SHARE_PER_DB, ATTACK_PER_DB, SUSTAIN_PER_DB = 0.06, 0.8, 0.5  # for a dB that hits are to stand out more
LEAST_SHARE, DRY_PER_DB = 0.2, 0.3  # of compressors' shares: what stays at least, what goes for a dB of what they lift
SUSTAIN_PER_GHOST = 2.0  # dB that SUSTAIN is softer for a dB that ghosts are to be
STANDS_OUT, MOST_ATTACK_DB, LEAST_SUSTAIN_DB = "stands-out", 9.0, -7.0  # the overheads' shaper that is solved for
LEAST_ATTACK_DB, MOST_SHELL_DB = -6.0, 12.0  # of kick and snare: they are not made soft for a figure
BODY_SHARE, LEAST_BODY_DB, MOST_BODY_DB = 0.5, -8.0, 6.0  # of their sustain, for a dB less attack
BODY_PER_DB = 1.5  # of their sustain, for a dB of attack that would be lost
DEEPEST_DB = 40.0  # how far down they are cleaned at most
HAT, HAT_FROM_HZ, MOST_HAT_DB = "hat", 4000.0, 12.0


def ghosts(plan: Plan, over_db: float) -> Step | None:
    """Return SUSTAIN softer, which brings ghosts up most; where it is not heard compressors of snare and kit with more of the dry sound."""
    by = float(np.clip(over_db, 0.0, MOST_STEP_DB))
    values = softer_sustain(plan, SUSTAIN_PER_GHOST * by)
    values = values or _drier([*_rows(plan, ("snare",)), _kit_row(plan)], by, DRY_PER_DB, 0.0)
    return Step("ghosts", values) if values else None


def attack(plan: Plan, by_db: float) -> Step | None:
    """Return more attack of the shapers of kick and snare, or less and more body.

    Where the kit's peaks are rounded off, what is added to them is lost: body goes in place of it, and compressors at kick and snare, which let strokes' peaks
    through, have more of the dry sound, so that there is less to round off.
    """
    values: dict[str, Any] = {}
    lost = lost_share(plan)
    for mic in plan.mics:
        for tool in mic.tools:
            if tool.kind == "shaper" and tool.on and mic.piece in STRONG:
                sharper, fuller = _sharper(tool, by_db, lost)
                place = f"mics.{mic.id}.tools.{tool.id}"
                values |= {f"{place}.attack_db": round(sharper, 1), f"{place}.sustain_db": round(fuller, 1)}
    if lost * by_db > 0.0:
        values |= _drier(_rows(plan, STRONG), lost * by_db) | softer_wash(plan, lost * by_db, (ROOMS,))
    return Step("attack", values) if values else None


def _sharper(shaper: Shaper, by_db: float, lost: float) -> tuple[float, float]:
    """Return a shaper's attack and sustain so much sharper: body goes where attack is as far as it goes, and comes where there is too much of that.

    What was set beyond these limits by hand stays where it is. lost : the share of more attack that is lost
    """
    least, most = min(LEAST_ATTACK_DB, shaper.attack_db), max(MOST_SHELL_DB, shaper.attack_db)
    more = by_db * (1.0 - lost) if by_db > 0.0 else by_db
    attack_db = float(np.clip(shaper.attack_db + more, least, most))
    body_db = shaper.sustain_db - BODY_SHARE * by_db
    if by_db > 0.0:
        body_db = max(body_db, min(shaper.sustain_db, 0.0)) - BODY_SHARE * (shaper.attack_db + more - attack_db)
        body_db -= BODY_PER_DB * (by_db - more)
    least, most = min(LEAST_BODY_DB, shaper.sustain_db), max(MOST_BODY_DB, shaper.sustain_db)
    return attack_db, float(np.clip(body_db, least, most))


def contrast(
    plan: Plan, short_db: float, wash_db: float, spots_db: float = 0.0, attack_room_db: float = MOST_STEP_DB
) -> Step | None:
    """Return what makes hits stand out: SUSTAIN softer, or muted where it would hardly be heard; rooms softer, and overheads where hats have mics of their
    own; compressors of kick, snare and kit with more of the dry sound, and what cleans kick and snare deeper; more attack in the overheads, whose wash is what
    hits stand out of, and in the mics at hats and ride.

    short_db : by how much hits stand out less than is wanted, positive; wash_db : how much of that overheads are to give; spots_db : how much the mics at
    hats and ride are, whose strokes are wanted and whose ring is not; attack_room_db : how much sharper hits may become
    """
    values: dict[str, Any] = {}
    by = float(np.clip(short_db, 0.0, MOST_STEP_DB))
    values |= softer_sustain(plan, by) | softer_wash(plan, by, WASH if spots(plan) else (ROOMS,))
    values |= _drier([*_rows(plan, STRONG), _kit_row(plan)], by)
    for mic in plan.mics:
        for tool in mic.tools if mic.piece in STRONG else ():
            if cleans(tool) and (down_db := getattr(tool, depth := DEPTH[tool.kind])) < DEEPEST_DB:
                values[f"mics.{mic.id}.tools.{tool.id}.{depth}"] = round(min(down_db + by, DEEPEST_DB), 1)
    overheads = group_named(plan, OVERHEADS)
    if overheads is not None and wash_db > 0.0:
        values[f"groups.{overheads.id}.tools"] = _standing_out(overheads, wash_db, attack_room_db)
    for mic in spots(plan) if spots_db > 0.0 else ():
        values[f"mics.{mic.id}.tools"] = _standing_out(mic, spots_db, attack_room_db)
    return Step("contrast", values) if values else None


def _standing_out(strip: MicPlan | Group, by_db: float, attack_room_db: float) -> list[dict]:
    """Return a strip's row with more attack, as far as there is room for that, and less sustain."""
    mine = strip.tool(STANDS_OUT) or Shaper(id=STANDS_OUT, on=True)
    more = min(mine.attack_db + ATTACK_PER_DB * min(by_db, attack_room_db), MOST_ATTACK_DB)
    less = max(mine.sustain_db - SUSTAIN_PER_DB * by_db, LEAST_SUSTAIN_DB)
    tool = mine.replace(attack_db=round(more, 1), sustain_db=round(less, 1))
    return [each.to_json() for each in rows.with_own_id(strip.tools, tool)]


def _rows(plan: Plan, pieces: tuple[str, ...]) -> list[tuple[str, rows.Row]]:
    """Return where the mics of some pieces stand in the Plan, and their rows of tools."""
    return [(f"mics.{mic.id}", mic.tools) for mic in plan.mics if mic.piece in pieces]


def _kit_row(plan: Plan) -> tuple[str, rows.Row]:
    return "kit", plan.kit.tools


def _drier(
    strips: Sequence[tuple[str, rows.Row]], by_db: float, per_db: float = SHARE_PER_DB, least: float = LEAST_SHARE
) -> dict[str, Any]:
    """Return the compressors of some rows with more of the dry sound."""
    return {
        f"{place}.tools.{tool.id}.share": _dry(tool, per_db * by_db, least)
        for place, row in strips
        for tool in row
        if isinstance(tool, Compressor) and tool.on and tool.share > least
    }


def _dry(compressor: Compressor, by: float, least: float = 0.0) -> float:
    """Return a compressor's share with so much more of the dry sound."""
    return round(max(compressor.share - by, least), 2)


def hat_in_snare(plan: Plan, by_db: float, over_db: float = 0.0) -> Step | None:
    """Return a high shelf of the snare's mic that goes down at hats which no snare is near, further by so much; strikes of both are kept already.

    over_db : by how much hats are too loud in that mic itself; where the shelf goes no further, the mic's compressor, which lifts what is soft, gives for that
    more of the dry sound
    """
    mic = timing_mic([m for m in plan.mics if not m.is_layer], "snare")
    if mic is None:
        return None
    mine = mic.tool(HAT)
    wanted = (mine.bands[0].range_db if mine else 0.0) - by_db
    band = Band(
        kind="high_shelf",
        frequency_hz=HAT_FROM_HZ,
        range_db=round(float(np.clip(wanted, -MOST_HAT_DB, 0.0)), 1),
        threshold_db=-90.0,
        attack_ms=1.0,
        release_ms=80.0,
    )
    tool = Tone(id=HAT, bands=(band,), key=Key(of="hits:hihat-snare", length_ms=60.0))
    dry = DRY_PER_DB * min(max(-MOST_HAT_DB - wanted, 0.0), over_db)
    row = [t.replace(share=_dry(t, dry)) if isinstance(t, Compressor) and t.on else t for t in mic.tools]
    row = rows.with_own_id(tuple(row), tool)
    return Step("hat_in_snare", {f"mics.{mic.id}.tools": [each.to_json() for each in row]})
