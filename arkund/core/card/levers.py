"""What a kit's figures are corrected by: for each figure that misses its target one lever, moved by how far it misses. Pure changes of a Plan."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from arkund.core.blend.propose import level_for
from arkund.core.card.targets import TARGETS, Figures, about, beyond
from arkund.core.clean.settings import DEPTH
from arkund.core.kit.pieces import timing_mic
from arkund.core.plan.plan import Group, MicPlan, Plan
from arkund.core.rig import rows
from arkund.core.rig.hearing import audible
from arkund.core.rig.wiring import group_id as group_of
from arkund.core.tone.owner import LEAST_GAIN_DB
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.grit import Grit
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key

DENSE, EVEN = "density", "even"  # the ids of the kit's tools that are solved for
SHAPE = {"natural": "soft", "punchy": "hard", "heavy": "hard"}
SLOPE = 0.9  # dB of density for a dB of drive, usually, once the peaks reach the curve
MOST_STEP_DB, LOUDEST_DB, SOFTEST_GROUP_DB = 6.0, 12.0, -48.0
HEARD_DB, BACK_BEATS_SHARE = (
    -18.0,
    0.5,
)  # of a drum's group: softer than that, back-beats rise by a share of the rest, since others' mics have its strokes
LEVELS = ("kick", "toms")  # the groups whose levels move the figures of the same names
SPOTS, SNARE, CYMBALS, OVERHEADS, ROOMS = ("hihat", "ride"), "snare", "cymbals", "overheads", "rooms"
# Of what cymbals are off by: overheads bring the whole kit with them, SUSTAIN what others' mics hear of them, spots hardly anything else.
OVERHEADS_SHARE, CRUSHED_SHARE = 0.4, 0.7
WASH, WASH_SHARE = (OVERHEADS, ROOMS), 0.5  # which groups are softer for hits to stand out, and by how much of that
RISING_SHARE = 0.2  # of overheads, where cymbals are to be louder and have mics of their own
MOST_EVEN_DB, EVEN_Q = 6.0, 1.0
PAN_PER_DB = 0.06
SHARE_PER_DB, ATTACK_PER_DB, SUSTAIN_PER_DB = 0.06, 0.8, 0.5  # for a dB that hits are to stand out more
SUSTAIN_PER_GHOST = 2.0  # dB that SUSTAIN is softer for a dB that ghosts are to be
SOFTEST_PATH_DB, LEAST_SHARE, DRY_PER_DB = -48.0, 0.2, 0.3
STANDS_OUT, MOST_ATTACK_DB, LEAST_SUSTAIN_DB = "stands-out", 9.0, -7.0  # the overheads' shaper that is solved for
LEAST_ATTACK_DB, MOST_SHELL_DB = -6.0, 12.0  # of kick and snare: they are not made soft for a figure
BODY_SHARE, LEAST_BODY_DB, MOST_BODY_DB = 0.5, -8.0, 6.0  # of their sustain, for a dB less attack
LOST, BODY_PER_DB = (
    ((6.0, 18.0), (0.0, 1.0)),
    1.5,
)  # the share of attack that is lost, by drive in dB; of their sustain, for a dB that is
ATTACKED, DEEPEST_DB = ("kick", "snare"), 40.0  # and how far down they are cleaned at most
MOST_SECOND_DB = 6.0  # of the second strip that carries the low end
HAT, HAT_FROM_HZ, MOST_HAT_DB = "hat", 4000.0, 12.0


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


def _group(plan: Plan, group_id: str) -> Group | None:
    return next((group for group in plan.groups if group.id == group_id), None)


def level(plan: Plan, group_id: str, by_db: float, figure: str) -> Step | None:
    """Return another level of a group; None where there is none, or nothing is heard of it."""
    group = _group(plan, group_id)
    if group is None or not any(group_of(mic, plan.groups) == group_id for mic in audible(plan)):
        return None
    now = float(np.clip(group.level_db + np.clip(by_db, -MOST_STEP_DB, MOST_STEP_DB), SOFTEST_GROUP_DB, LOUDEST_DB))
    return Step(figure, {f"groups.{group.id}.level_db": round(now, 1)})


def against_back_beats(plan: Plan, group_id: str, by_db: float) -> Step | None:
    """Return another level of a drum's group, no softer than it is heard at all: then back-beats rise. Where the kit's peaks are rounded off, what a drum
    rises by is lost: back-beats fall in place of it.
    """
    group = _group(plan, group_id)
    own = max(by_db, min(HEARD_DB - group.level_db, 0.0)) if group and by_db < 0.0 else by_db * (1.0 - _lost(plan))
    step = level(plan, group_id, own, group_id)
    back_beats = level(plan, SNARE, BACK_BEATS_SHARE * (own - by_db), group_id) if own != by_db else None
    return Step(group_id, step.values | (back_beats.values if back_beats else {})) if step else None


def ghosts(plan: Plan, over_db: float) -> Step | None:
    """Return SUSTAIN softer, which brings ghosts up most; where it is not heard compressors of snare and kit with more of the dry sound."""
    by = float(np.clip(over_db, 0.0, MOST_STEP_DB))
    values = _softer_sustain(plan, SUSTAIN_PER_GHOST * by)
    values = values or _drier([*_rows(plan, ("snare",)), _kit_row(plan)], by, DRY_PER_DB, 0.0)
    return Step("ghosts", values) if values else None


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
        values |= _softer_sustain(plan, CRUSHED_SHARE * min(-by_db, MOST_STEP_DB))
    return Step("cymbals", values) if values else None


def attack(plan: Plan, by_db: float) -> Step | None:
    """Return more attack of the shapers of kick and snare, or less and more body.

    Where the kit's peaks are rounded off, what is added to them is lost: body goes in place of it, and compressors at kick and snare, which let strokes' peaks
    through, have more of the dry sound, so that there is less to round off.
    """
    values: dict[str, Any] = {}
    lost = _lost(plan)
    for mic in plan.mics:
        for tool in mic.tools:
            if tool.kind == "shaper" and tool.on and mic.piece in ATTACKED:
                sharper, fuller = _sharper(tool, by_db, lost)
                place = f"mics.{mic.id}.tools.{tool.id}"
                values |= {f"{place}.attack_db": round(sharper, 1), f"{place}.sustain_db": round(fuller, 1)}
    if lost * by_db > 0.0:
        values |= _drier(_rows(plan, ATTACKED), lost * by_db) | _softer_wash(plan, lost * by_db, (ROOMS,))
    return Step("attack", values) if values else None


def _lost(plan: Plan) -> float:
    """Return the share that is lost of what is added to strokes' peaks, since the kit's are rounded off."""
    mine = plan.kit.tool(DENSE)
    return float(np.interp(mine.drive_db, *LOST)) if mine and mine.on else 0.0


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
    """Return what makes hits stand out: SUSTAIN softer, or muted where it would hardly be heard; compressors of kick, snare and kit with more of the dry
    sound, and what cleans kick and snare deeper; more attack in the overheads, whose wash is what hits stand out of, and in the mics at hats and ride.

    short_db : by how much hits stand out less than is wanted, positive; wash_db : how much of that overheads are to give; spots_db : how much the mics at
    hats and ride are, whose strokes are wanted and whose ring is not; attack_room_db : how much sharper hits may become
    """
    values: dict[str, Any] = {}
    by = float(np.clip(short_db, 0.0, MOST_STEP_DB))
    values |= _softer_sustain(plan, by) | _softer_wash(plan, by, WASH if spots(plan) else (ROOMS,))
    values |= _drier([*_rows(plan, ATTACKED), _kit_row(plan)], by)
    for mic in plan.mics:
        for tool in mic.tools if mic.piece in ATTACKED else ():
            if tool.on and (depth := DEPTH.get(tool.kind)) and getattr(tool, depth) < DEEPEST_DB:
                deeper = round(min(getattr(tool, depth) + by, DEEPEST_DB), 1)
                values[f"mics.{mic.id}.tools.{tool.id}.{depth}"] = deeper
    overheads = _group(plan, OVERHEADS)
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


def _softer_sustain(plan: Plan, by_db: float) -> dict[str, Any]:
    """Return SUSTAIN softer by so much, muted where it would hardly be heard."""
    values: dict[str, Any] = {}
    for path in plan.paths:
        if path.id == "sustain" and not path.mute:
            lower = round(path.level_db - by_db, 1)
            heard = lower >= SOFTEST_PATH_DB
            values |= {f"paths.{path.id}.level_db": lower} if heard else {f"paths.{path.id}.mute": True}
    return values


def _softer_wash(plan: Plan, by_db: float, groups: Sequence[str]) -> dict[str, Any]:
    """Return groups softer by a share, in which what rings fills what is between hits, as far as they are still heard."""
    values: dict[str, Any] = {}
    for group in plan.groups:
        if group.id in groups and group.level_db > HEARD_DB:
            softer = level(plan, group.id, max(-WASH_SHARE * by_db, HEARD_DB - group.level_db), "contrast")
            values |= softer.values if softer else {}
    return values


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


def middle(plan: Plan, left_db: float) -> Step | None:
    """Return the place of the overheads' group by which kicks and back-beats come from the middle."""
    group = _group(plan, OVERHEADS)
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
