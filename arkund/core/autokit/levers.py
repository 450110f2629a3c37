"""The levers of a mix: what may be moved, by how much in each style, and how it is written into a Plan. A new lever is a row of :func:`levers_of`."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from arkund.core.autokit.solver import Lever
from arkund.core.card.cost import COSTS
from arkund.core.card.measure import SLOPE_HZ, octave_key
from arkund.core.card.own_style import targets_of
from arkund.core.card.sound import STRONG
from arkund.core.findings import capital
from arkund.core.kit.pieces import timing_mic
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.rig import places, rows
from arkund.core.rig.hearing import audible
from arkund.core.rig.places import KIT
from arkund.core.rig.strips import OFF_DB, Path
from arkund.core.rig.wiring import group_id
from arkund.core.tools.grit import Grit
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tone import Band, Tone

COLOUR, SHAPE, CLIP, EVEN = "colour", "shape", "clip", "even"  # the ids of tools that are solved for
OWN_TOOLS = (COLOUR, SHAPE, CLIP, EVEN)
# Where a group has its weight, its attack and its air: wide filters, each with what it is called; what carries attack and air is lifted, never dulled.
COLOURS = {
    "kick": (
        ("weight", Band(kind="low_shelf", frequency_hz=80.0, q=0.7)),
        ("beater", Band(frequency_hz=4000.0, q=0.8)),
    ),
    "snare": (("body", Band(frequency_hz=200.0, q=0.8)), ("crack", Band(frequency_hz=3600.0, q=0.8))),
    "overheads": (("air", Band(kind="high_shelf", frequency_hz=8000.0, q=0.7)),),
}
LIFTED = ("beater", "crack", "air")
# For the sake of which figures a lever is moved, as an engineer would; whatever else it does counts only where it harms.
BALANCE = frozenset({"kick", "toms", "cymbals", "crashes", "ghosts"})
IMAGE = frozenset({"image_kick", "image_snare", "width", "mono"})
ATTACK = frozenset({"attack_kick", "attack_snare", "contrast", "accents_kick", "accents_snare"})
DENSITY = frozenset({"density", "plr", "clip_usual", "clip_loudest", "distortion"})
OCTAVES = frozenset(octave_key(hz) for hz in SLOPE_HZ)
OF_GROUPS = {
    "kick": frozenset({"kick", "image_kick", "floor"}),
    "snare": BALANCE | {"image_snare", "floor"},
    "toms": frozenset({"toms"}),
    "cymbals": frozenset({"cymbals"}),
    "overheads": IMAGE | {"cymbals", "crashes", "top"},
    "rooms": IMAGE | {"floor", "attack_kick", "attack_snare"},
}
OF_MICS = {
    "kick": frozenset({"low_end", "attack_kick"}) | OCTAVES,
    "snare": frozenset({"ghosts", "attack_snare"}) | OCTAVES,
}
OF_COLOURS = {
    "weight": OCTAVES | {"kick", "low_end"},
    "beater": OCTAVES | {"attack_kick"},
    "body": OCTAVES | {"attack_snare"},
    "crack": OCTAVES | {"attack_snare", "ghosts"},
    "air": OCTAVES | {"top", "cymbals"},
}
OF_PATHS = ATTACK | DENSITY | {"ghosts", "floor", "tails", "hats_even"}
EVEN_Q = 1.0
# What a unit costs, in dB that a figure misses by: a fader is cheaper than a tool, clipping is dearest.
FADER_PRICE, TONE_PRICE, SHAPER_PRICE, CLIP_PRICE = 0.04, 0.06, 0.08, 0.12
SLOPE_NEAR_DB = 2.0  # an octave that lies this near to the slope's limit, or beyond it, is filtered over the kit
CLIP_STEP_DB = 1.5  # less of it touches no hit
SOFTER_PATH_DB = 10.0  # how far a parallel path may go down from where it was begun: softer, it is better left out


@dataclass(frozen=True, slots=True, kw_only=True)
class Bounds:
    """How far means may go in a style, in dB.

    fader : from the first balance; lift, cut : a wide filter of a drum; tone : one over the kit; shaper : attack and sustain; path_under : by how much a
    parallel path's peak stays under the kit's. How deep a clipper may go is the limit of what clipping may cost.
    """

    fader: float
    lift: float
    cut: float
    tone: float
    shaper: float
    path_under: float


BOUNDS = {
    "natural": Bounds(fader=4.0, lift=3.0, cut=4.0, tone=1.5, shaper=2.0, path_under=12.0),
    "punchy": Bounds(fader=6.0, lift=4.0, cut=6.0, tone=2.0, shaper=4.0, path_under=8.0),
    "heavy": Bounds(fader=8.0, lift=6.0, cut=8.0, tone=3.0, shaper=6.0, path_under=5.0),
}
MOST_CLIPPED = next(each.ranges for each in COSTS if each.figure.key == "clip_loudest")
KIT_UNCLIPPED = ("natural",)


@dataclass(frozen=True, slots=True)
class Means:
    """A lever with what it is called, and what it changes of a Plan.

    path : what it changes, by its path in the Plan; strip : whose it is, in words; deed : what is done there, of a value and the one before it; value : where
    it stands in a Plan; changes : of a Plan and a value
    """

    lever: Lever
    path: str
    strip: str
    deed: Callable[[float, float], str]
    value: Callable[[Plan], float]
    changes: Callable[[Plan, float], dict[str, Any]]


class Measured(Protocol):
    """What bounds are reckoned from. Peaks in dBFS; None where nothing of it is heard or played."""

    def of(self, plan: Plan, output: str) -> float | None:
        """Return the peak of an output."""

    def octaves_off(self, plan: Plan) -> dict[float, float]:
        """Return by how much each octave of the kit lies over the slope, in dB by its middle in Hz; nothing of a silent kit."""

    def loudest_hits(self, plan: Plan, strip: str) -> tuple[float, float] | None:
        """Return the peak that the loudest tenth of a strip's hits reaches behind its tools, before its level, over the kit those of kick and snare; and the
        highest peak of all.
        """


def levers_of(plan: Plan, style: str, measured: Measured) -> list[Means]:
    """Return the levers of a Plan, in the order of the work: faders, tone, each drum's dynamics, parallel paths, clipping last."""
    bounds = BOUNDS[style]
    heard = {group_id(mic, plan.groups) for mic in audible(plan)}
    groups = [group for group in plan.groups if group.id in heard and not group.mute]
    out = [
        _level(f"groups.{g.id}", f"{capital(g.name)} group", g.level_db, bounds.fader, OF_GROUPS.get(g.id, BALANCE))
        for g in groups
    ]
    for group in groups:
        mine = [mic for mic in audible(plan) if group_id(mic, plan.groups) == group.id and not mic.is_layer]
        if group.id in STRONG and len(mine) > 1:  # against the drum's main mic, which the group's fader moves
            main = timing_mic(mine, group.id) or mine[0]
            others = [mic for mic in mine if mic is not main]
            out += [_level(f"mics.{m.id}", m.name, m.level_db, bounds.fader, OF_MICS[group.id]) for m in others]
    for group in groups:
        for what, band in COLOURS.get(group.id, ()):
            ends_db = 0.0 if what in LIFTED else -bounds.cut, bounds.lift
            out.append(_filter(plan, f"group:{group.id}.{COLOUR}", band, what, ends_db, OF_COLOURS[what]))
    # Over the kit an octave that lies far off the slope is brought nearer to it; the others are left alone.
    near_db = targets_of(style, plan.own_style)["slope"][1] - SLOPE_NEAR_DB
    for hz, off_db in [each for each in measured.octaves_off(plan).items() if abs(each[1]) > near_db]:
        ends_db = (-bounds.tone, 0.0) if off_db > 0.0 else (0.0, bounds.tone)
        out.append(_filter(plan, f"{KIT}.{EVEN}", Band(frequency_hz=hz, q=EVEN_Q), "", ends_db, OCTAVES))
    drums = [group.id for group in groups if group.id in STRONG]
    out += [_shaper(plan, group, field, bounds.shaper) for group in drums for field in ("attack_db", "sustain_db")]
    kit_db = measured.of(plan, KIT)
    for path in plan.paths:
        path_db = None if path.mute else measured.of(plan, f"path:{path.id}")
        if path_db is not None and kit_db is not None:
            out.append(_path(path, bounds, kit_db - path_db))
    clipped = [f"group:{group}" for group in drums] + [KIT] * (style not in KIT_UNCLIPPED)
    most_db = MOST_CLIPPED[style][1]
    out += [_clip(plan, name, most_db, measured) for name in clipped if measured.loudest_hits(plan, name) is not None]
    return out


def put(plan: Plan, means: Sequence[Means], values: Mapping[str, float]) -> Plan:
    """Return a Plan with levers at values by key; those at their start stay as they are in it."""
    for each in means:
        value = values.get(each.lever.key, each.lever.start)
        if value != each.lever.start:
            plan = change.put(plan, each.changes(plan, value))
    return plan


def _fader(lever: Lever, strip: str) -> Means:
    return Means(
        lever,
        lever.key,
        strip,
        lambda value, before: f"{value - before:+.1f} dB",
        lambda plan: change.get(plan, lever.key),
        lambda plan, value: {lever.key: round(value, 1)},
    )


def _level(place: str, strip: str, now_db: float, by_db: float, serves: frozenset[str]) -> Means:
    ends_db = now_db - by_db, now_db + by_db
    return _fader(Lever(f"{place}.level_db", now_db, *ends_db, price=FADER_PRICE, serves=serves), strip)


def _path(path: Path, bounds: Bounds, under_db: float) -> Means:
    """under_db : how far its peak is under the kit's now"""
    now_db = path.level_db
    highest = max(min(now_db + under_db - bounds.path_under, now_db + bounds.fader), now_db)
    lowest = max(now_db - SOFTER_PATH_DB, OFF_DB + 1.0)
    lever = Lever(f"paths.{path.id}.level_db", now_db, lowest, highest, price=FADER_PRICE, serves=OF_PATHS)
    return _fader(lever, f"{path.name} path")


def _tool(plan: Plan, lever: Lever, what: str, value: Callable, tool: Callable) -> Means:
    """Return a tool's setting, whose lever is called by the strip, the tool's id and the setting, with points between.

    what : the deed in words, with a place for the value; value : of a Plan and the tool that is on; tool : as it stands, if it does, with another value, of a
    Plan, the tool and that
    """
    name, tool_id = lever.key.split(".")[:2]
    mine = places.named(plan, name)

    def deed(to: float, _: float) -> str:
        return what.format(to) if to else f"{what.partition(' {')[0]} reset"

    def standing(plan: Plan) -> float:
        found = places.named(plan, name).strip.tool(tool_id)
        return value(plan, found) if found and found.on else 0.0

    def changes(plan: Plan, to: float) -> dict[str, Any]:
        strip = places.named(plan, name).strip
        return rows.put_own(mine.place, strip, tool(plan, strip.tool(tool_id), round(to, 1)))

    return Means(lever, f"{mine.place}.tools", f"{capital(mine.words)}:", deed, standing, changes)


def _shaper(plan: Plan, group: str, field: str, most_db: float) -> Means:
    key, serves = (
        f"group:{group}.{SHAPE}.{field}",
        DENSITY | {"contrast", "floor", f"attack_{group}", f"accents_{group}"},
    )
    lever = Lever(key, 0.0, -most_db, most_db, price=SHAPER_PRICE, serves=serves)
    return _tool(
        plan,
        lever,
        f"{field.removesuffix('_db')} {{:+.1f}} dB",
        lambda _, mine: getattr(mine, field),
        lambda _, mine, to: (mine or Shaper(id=SHAPE)).replace(on=True, **{field: to}),
    )


def _filter(
    plan: Plan, tool: str, band: Band, what: str, ends_db: tuple[float, float], serves: frozenset[str]
) -> Means:
    """Return a band of an equaliser. tool : the strip and the tool's id; what : stands there, "" for nothing but its frequency; ends_db : down and up"""

    def others(mine: Tone) -> list[Band]:
        return [each for each in mine.bands if (each.kind, each.frequency_hz) != (band.kind, band.frequency_hz)]

    def gain_db(_: Plan, mine: Tone) -> float:
        return next((each.gain_db for each in mine.bands if each not in others(mine)), 0.0)

    def with_gain(_: Plan, mine: Tone | None, to: float) -> Tone:
        mine = mine or Tone(id=tool.partition(".")[2])
        bands = sorted([*others(mine), band.replace(gain_db=to)], key=lambda each: each.frequency_hz)
        return mine.replace(on=True, bands=tuple(bands))

    hz = band.frequency_hz
    at = f"{hz:g} Hz" if hz < 1000.0 else f"{hz / 1000.0:g} kHz"
    lever = Lever(f"{tool}.{what or f'{hz:g}'}", 0.0, *ends_db, price=TONE_PRICE, serves=serves)
    return _tool(plan, lever, f"{what} at {at} {{:+.1f}} dB" if what else f"{at} {{:+.1f}} dB", gain_db, with_gain)


def _clip(plan: Plan, name: str, most_db: float, measured: Measured) -> Means:
    """A clipper as deep under the highest peak as it comes in, so that a fader before it moves nothing of that, and the least of it touches least; as deep at
    most as the loudest tenth of the hits may be clipped.
    """

    def loudest_db(plan: Plan) -> tuple[float, float]:
        mine = places.named(plan, name)
        bare = change.put(plan, rows.put_own(mine.place, mine.strip, Grit(id=CLIP, on=False)))
        return measured.loudest_hits(bare, name) or (0.0, 0.0)

    def depth_db(plan: Plan, mine: Grit) -> float:
        return max(mine.drive_db + loudest_db(plan)[1], 0.0)

    def tool(plan: Plan, mine: Grit | None, to: float) -> Grit:
        drive_db = min(max(round(to - loudest_db(plan)[1], 1), 0.0), Grit.ranges()["drive_db"].high)
        return Grit(id=CLIP, on=True, shape="hard", drive_db=drive_db)

    tenth_db, peak_db = loudest_db(plan)
    most_db = round(most_db + max(peak_db - tenth_db, 0.0), 1)
    step_db = min(CLIP_STEP_DB, most_db)
    lever = Lever(f"{name}.{CLIP}", 0.0, 0.0, most_db, step=step_db, price=CLIP_PRICE, serves=DENSITY)
    return _tool(plan, lever, "clipper takes {:.1f} dB off the highest peak", depth_db, tool)
