"""What a kit's figures are corrected by: for each figure that misses its target one lever, moved by how far it misses. Pure changes of a Plan."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from arkund.core.blend.propose import level_for
from arkund.core.card.targets import TARGETS, Figures, about, beyond
from arkund.core.plan.plan import Group, MicPlan, Plan
from arkund.core.rig import rows
from arkund.core.rig.hearing import audible
from arkund.core.rig.wiring import group_id as group_of
from arkund.core.tone.owner import LEAST_GAIN_DB
from arkund.core.tools.grit import Grit
from arkund.core.tools.tone import Band, Tone

DENSE, EVEN = "density", "even"  # the ids of the kit's tools that are solved for
SHAPE = {"natural": "soft", "punchy": "hard", "heavy": "hard"}
SLOPE = 0.9  # dB of density for a dB of drive, usually, once the peaks reach the curve
MOST_STEP_DB, LOUDEST_DB, SOFTEST_GROUP_DB = 6.0, 12.0, -48.0
HEARD_DB = -18.0  # of a group: softer it is hardly heard, and what is left of its drum is in others' mics
BACK_BEATS_SHARE = 0.5  # of what a drum cannot be softer or louder: how far back-beats go the other way
LEVELS = ("kick", "toms")  # the groups whose levels move the figures of the same names
SPOTS, SNARE, CYMBALS, OVERHEADS, ROOMS = ("hihat", "ride"), "snare", "cymbals", "overheads", "rooms"
# Of what cymbals are off by: overheads bring the whole kit with them, SUSTAIN what others' mics hear of them, spots hardly anything else.
OVERHEADS_SHARE, CRUSHED_SHARE = 0.4, 0.7
WASH, WASH_SHARE = (OVERHEADS, ROOMS), 0.5  # which groups are softer for hits to stand out, and by how much of that
RISING_SHARE = 0.2  # of overheads, where cymbals are to be louder and have mics of their own
MOST_EVEN_DB, EVEN_Q = 6.0, 1.0
PAN_PER_DB = 0.06
SOFTEST_PATH_DB = -48.0
# From and to which drive more and more is lost of what is added to peaks, since the kit's are rounded off: nothing, and all of it.
LOST_FROM_DB, LOST_TO_DB = 6.0, 18.0
MOST_SECOND_DB = 6.0  # of the second strip that carries the low end


@dataclass(frozen=True, slots=True)
class Step:
    """A correction: which figure it is for, and the values of the Plan by place."""

    figure: str
    values: dict[str, Any]


def misses(figures: Figures, raw: Figures, school: str) -> dict[str, float]:
    """Return by how much figures are above (below, negative) what they are brought to, of those that are not there."""
    found = {key: beyond(key, about(key, figures, raw), school) for key in TARGETS[school]}
    return {key: by for key, by in found.items() if by}


def density(plan: Plan, over_db: float, school: str, true_peak_db: float) -> Step:
    """Return more drive of the kit's grit, or less: it rounds the highest peaks off, and leaves what is softer as it is.

    true_peak_db : of the kit
    """
    mine = plan.kit.tool(DENSE)
    # The first of it only lets the peaks reach the curve.
    now = mine.drive_db if mine else max(plan.kit.level_db - true_peak_db, 0.0)
    limits = Grit.ranges()["drive_db"]
    step = float(np.clip(over_db / SLOPE, -MOST_STEP_DB, MOST_STEP_DB))
    drive = round(float(np.clip(now + step, limits.low, limits.high)), 1)
    # What it takes is given back, so that the kit's level has room.
    louder = round(min(SLOPE * drive, Grit.ranges()["output_db"].high), 1)
    tool = (mine or Grit(id=DENSE, shape=SHAPE[school])).replace(on=drive > 0.0, drive_db=drive, output_db=louder)
    return Step("density", {"kit.tools": [each.to_json() for each in rows.with_own_id(plan.kit.tools, tool)]})


def at_headroom(plan: Plan, figures: Figures) -> tuple[Plan, Figures]:
    """Return a Plan with the kit at the level at which it leaves its head-room, and its figures then: the level comes last and moves nothing else."""
    if figures["headroom"] is None:
        return plan, figures
    level_db = level_for(plan.kit, figures["headroom"])
    moved = {"headroom": figures["headroom"] + level_db - plan.kit.level_db}
    return plan.replace(kit=plan.kit.replace(level_db=level_db)), {**figures, **moved}


def spots(plan: Plan) -> list[MicPlan]:
    """Return the mics at hats and ride that are heard."""
    return [mic for mic in audible(plan) if mic.piece in SPOTS and not mic.is_layer]


def group_named(plan: Plan, group_id: str) -> Group | None:
    """Return a group by its id, None where there is none."""
    return next((group for group in plan.groups if group.id == group_id), None)


def level(plan: Plan, group_id: str, by_db: float, figure: str) -> Step | None:
    """Return another level of a group; None where there is none, or nothing is heard of it."""
    group = group_named(plan, group_id)
    if group is None or not any(group_of(mic, plan.groups) == group_id for mic in audible(plan)):
        return None
    now = float(np.clip(group.level_db + np.clip(by_db, -MOST_STEP_DB, MOST_STEP_DB), SOFTEST_GROUP_DB, LOUDEST_DB))
    return Step(figure, {f"groups.{group.id}.level_db": round(now, 1)})


def against_back_beats(plan: Plan, group_id: str, by_db: float) -> Step | None:
    """Return another level of a drum's group, no softer than it is heard at all: then back-beats rise. Where the kit's peaks are rounded off, what a drum
    rises by is lost: back-beats fall in place of it.
    """
    group = group_named(plan, group_id)
    if group is None:
        return None
    down_to_db = min(HEARD_DB - group.level_db, 0.0)
    own_db = max(by_db, down_to_db) if by_db < 0.0 else by_db * (1.0 - lost_share(plan))
    own = level(plan, group_id, own_db, group_id)
    if own is None or own_db == by_db:
        return own
    back_beats = level(plan, SNARE, BACK_BEATS_SHARE * (own_db - by_db), group_id)
    return Step(group_id, own.values | (back_beats.values if back_beats else {}))


def cymbals(plan: Plan, by_db: float, short_db: float = 0.0) -> Step | None:
    """Return other levels of the mics at hats and ride, and of the overheads by less; where they are to be softer of rooms and SUSTAIN too,
    which brings up what others' mics hear of them.

    short_db : by how much hits stand out too little: overheads do not rise then, for they bring all that rings
    """
    values: dict[str, Any] = {}
    limits = MicPlan.ranges()["level_db"]
    step, rest = float(np.clip(by_db, -MOST_STEP_DB, MOST_STEP_DB)), 0.0
    for mic in spots(plan):
        values[f"mics.{mic.id}.level_db"] = round(float(np.clip(mic.level_db + step, limits.low, limits.high)), 1)
        rest = max(rest, mic.level_db + step - limits.high)
    if rest > 0.0 and (group := level(plan, CYMBALS, rest, "cymbals")):
        values |= group.values
    share = OVERHEADS_SHARE if values else 1.0
    if values and by_db > 0.0:
        share = RISING_SHARE * float(np.clip(1.0 - short_db, 0.0, 1.0))
    for group_id in (OVERHEADS, ROOMS) if by_db < 0.0 else (OVERHEADS,):
        if group := level(plan, group_id, share * by_db, "cymbals"):
            values |= group.values
    if by_db < 0.0:
        values |= softer_sustain(plan, CRUSHED_SHARE * min(-by_db, MOST_STEP_DB))
    return Step("cymbals", values) if values else None


def lost_share(plan: Plan) -> float:
    """Return the share that is lost of what is added to strokes' peaks, since the kit's are rounded off."""
    mine = plan.kit.tool(DENSE)
    return float(np.interp(mine.drive_db, (LOST_FROM_DB, LOST_TO_DB), (0.0, 1.0))) if mine and mine.on else 0.0


def softer_sustain(plan: Plan, by_db: float) -> dict[str, Any]:
    """Return SUSTAIN softer by so much, muted where it would hardly be heard."""
    values: dict[str, Any] = {}
    for path in plan.paths:
        if path.id == "sustain" and not path.mute:
            lower = round(path.level_db - by_db, 1)
            heard = lower >= SOFTEST_PATH_DB
            values |= {f"paths.{path.id}.level_db": lower} if heard else {f"paths.{path.id}.mute": True}
    return values


def softer_wash(plan: Plan, by_db: float, groups: Sequence[str]) -> dict[str, Any]:
    """Return groups softer by a share, in which what rings fills what is between hits, as far as they are still heard."""
    values: dict[str, Any] = {}
    for group in plan.groups:
        if group.id in groups and group.level_db > HEARD_DB:
            softer = level(plan, group.id, max(-WASH_SHARE * by_db, HEARD_DB - group.level_db), "contrast")
            values |= softer.values if softer else {}
    return values


def even(plan: Plan, octaves_hz: tuple[float, ...], residual_db: np.ndarray, by_db: float) -> Step | None:
    """Return wide filters over the kit against the octaves that lie furthest from an even fall, so that the furthest comes nearer by so much."""
    mine = plan.kit.tool(EVEN)
    gains = {band.frequency_hz: band.gain_db for band in mine.bands} if mine else {}
    within_db = max(float(np.max(np.abs(residual_db))) - by_db, 0.0)
    for hz, off in zip(octaves_hz, residual_db.tolist(), strict=True):
        over = off - float(np.clip(off, -within_db, within_db))
        if over:
            gains[hz] = float(np.clip(gains.get(hz, 0.0) - over, -MOST_EVEN_DB, MOST_EVEN_DB))
    bands = tuple(Band(frequency_hz=hz, gain_db=round(db, 1), q=EVEN_Q) for hz, db in sorted(gains.items()))
    tool = (mine or Tone(id=EVEN)).replace(on=True, bands=bands)
    return Step("balance", {"kit.tools": [each.to_json() for each in rows.with_own_id(plan.kit.tools, tool)]})


def middle(plan: Plan, left_db: float) -> Step | None:
    """Return the place of the overheads' group by which kicks and back-beats come from the middle."""
    group = group_named(plan, OVERHEADS)
    if group is None:
        return None
    pan = float(np.clip(group.pan + PAN_PER_DB * left_db, -0.6, 0.6))
    return Step("middle", {f"groups.{group.id}.pan": round(pan, 2)})


def turned(plan: Plan, turned_db: Mapping[str, float]) -> Step | None:
    """Return the strip turned over that the low end gains most by, of those that are nothing but low end.

    turned_db : by how much the sum rises when each is turned over
    """
    best = max(turned_db, key=turned_db.__getitem__, default=None)
    if best is None or turned_db[best] < LEAST_GAIN_DB:
        return None
    return Step("low_end", {f"mics.{best}.line_up.turned": not plan.mic(best).line_up.turned})


def low_end(plan: Plan, main_db: Mapping[str, float], by_db: float) -> Step | None:
    """Return the second of the strips that carry the low end louder, so that they add up to more; None where one has it alone."""
    if len(main_db) < 2:
        return None
    mic = plan.mic(sorted(main_db, key=main_db.__getitem__)[-2])
    level = min(mic.level_db + float(np.clip(by_db, 0.0, MOST_STEP_DB)), MOST_SECOND_DB)
    return Step("low_end", {f"mics.{mic.id}.level_db": round(level, 1)})
