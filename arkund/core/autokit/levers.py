"""The levers of a mix: what may be moved, by how much in each style, and how it is written into a Plan. A new lever is a row of :func:`levers_of`."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from arkund.core.autokit.solver import Lever
from arkund.core.card.measure import SLOPE_HZ
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.rig import places, rows
from arkund.core.rig.hearing import audible
from arkund.core.rig.strips import OFF_DB, Group, Path
from arkund.core.rig.wiring import group_id
from arkund.core.tools.grit import Grit
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tone import Band, Tone

COLOUR, SHAPE, CLIP, EVEN = "colour", "shape", "clip", "even"  # the ids of tools that are solved for
OWN_TOOLS = (COLOUR, SHAPE, CLIP, EVEN)
# Where a group has its weight, its attack and its air: wide filters, each with what it is called.
COLOURS = {
    "kick": (
        ("weight", Band(kind="low_shelf", frequency_hz=80.0, q=0.7)),
        ("beater", Band(frequency_hz=4000.0, q=0.8)),
    ),
    "snare": (("body", Band(frequency_hz=200.0, q=0.8)), ("crack", Band(frequency_hz=3600.0, q=0.8))),
    "overheads": (("air", Band(kind="high_shelf", frequency_hz=8000.0, q=0.7)),),
}
EVEN_Q = 1.0
# What a unit costs, in dB that a figure misses by: a fader is cheaper than a tool, clipping is dearest.
FADER_PRICE, TONE_PRICE, SHAPER_PRICE, CLIP_PRICE = 0.04, 0.06, 0.08, 0.12
CLIP_STEP_DB = 1.5  # less of it touches no hit
SOFTER_PATH_DB = 10.0  # how far a parallel path may go down from where it was begun: softer, it is better left out


@dataclass(frozen=True, slots=True, kw_only=True)
class Bounds:
    """How far means may go in a style, in dB.

    fader : from the first balance; lift, cut : a wide filter of a drum; tone : one over the kit; shaper : attack and sustain; clip : off the loudest hits;
    path_under : by how much a parallel path's peak stays under the kit's
    """

    fader: float
    lift: float
    cut: float
    tone: float
    shaper: float
    clip: float
    path_under: float


BOUNDS = {
    "natural": Bounds(fader=4.0, lift=3.0, cut=4.0, tone=1.5, shaper=2.0, clip=1.0, path_under=12.0),
    "punchy": Bounds(fader=6.0, lift=4.0, cut=6.0, tone=2.0, shaper=4.0, clip=3.0, path_under=8.0),
    "heavy": Bounds(fader=8.0, lift=6.0, cut=8.0, tone=3.0, shaper=6.0, clip=5.0, path_under=5.0),
}
CLIPPED = {"natural": ("kick", "snare"), "punchy": ("kick", "snare", "kit"), "heavy": ("kick", "snare", "kit")}


@dataclass(frozen=True, slots=True)
class Means:
    """A lever with what it is called, and what it changes of a Plan.

    path : what it changes, by its path in the Plan; title : the deed in words, of a value; value : where it stands in a Plan; changes : of a Plan and a value
    """

    lever: Lever
    path: str
    title: Callable[[float], str]
    value: Callable[[Plan], float]
    changes: Callable[[Plan, float], dict[str, Any]]


class Peaks(Protocol):
    """Peaks of a Plan that bounds are reckoned from, in dBFS; None where nothing of it is heard or played."""

    def of(self, plan: Plan, output: str) -> float | None:
        """Return the peak of an output."""

    def loudest_hits(self, plan: Plan, strip: str) -> float | None:
        """Return the peak that the loudest tenth of a strip's hits reaches behind its tools, before its level; over the kit those of kick and snare."""


def levers_of(plan: Plan, style: str, peaks: Peaks) -> list[Means]:
    """Return the levers of a Plan, in the order of the work: faders, tone, each drum's dynamics, parallel paths, clipping last."""
    bounds = BOUNDS[style]
    heard = {group_id(mic, plan.groups) for mic in audible(plan)}
    groups = [group for group in plan.groups if group.id in heard and not group.mute]
    out = [_fader(f"groups.{g.id}", f"{_named(g.name)} group", g.level_db, bounds.fader) for g in groups]
    for group in groups:
        mine = [mic for mic in audible(plan) if group_id(mic, plan.groups) == group.id and not mic.is_layer]
        if group.id in ("kick", "snare") and len(mine) > 1:
            out += [_fader(f"mics.{m.id}", m.name, m.level_db, bounds.fader) for m in mine]
    out += [_filter(group, each, bounds) for group in groups for each in COLOURS.get(group.id, ())]
    out += [_octave(hz, bounds.tone) for hz in SLOPE_HZ]
    for group in groups:
        if group.id in ("kick", "snare"):
            out += [
                _shaper(group.id, _named(group.name), field, bounds.shaper) for field in ("attack_db", "sustain_db")
            ]
    kit_db = peaks.of(plan, "kit")
    for path in plan.paths:
        path_db = None if path.mute else peaks.of(plan, f"path:{path.id}")
        if path_db is not None and kit_db is not None:
            out.append(_path(path, bounds, kit_db - path_db))
    names = [f"group:{g.id}" for g in groups if g.id in CLIPPED[style]] + ["kit"] * ("kit" in CLIPPED[style])
    out += [_clip(plan, name, bounds.clip, peaks) for name in names if peaks.loudest_hits(plan, name) is not None]
    return out


def put(plan: Plan, means: Sequence[Means], values: Mapping[str, float]) -> Plan:
    """Return a Plan with levers at values by key; those at their start stay as they are in it."""
    for each in means:
        value = values.get(each.lever.key, each.lever.start)
        if value != each.lever.start:
            plan = change.put(plan, each.changes(plan, value))
    return plan


def _named(name: str) -> str:
    return name[:1].upper() + name[1:]


def _fader(place: str, words: str, now_db: float, by_db: float) -> Means:
    lever = Lever(f"{place}.level_db", now_db, now_db - by_db, now_db + by_db, price=FADER_PRICE)
    return _level(lever, words)


def _level(lever: Lever, words: str) -> Means:
    def title(value: float) -> str:
        return f"{words} {value - lever.start:+.1f} dB"

    return Means(
        lever, lever.key, title, lambda plan: change.get(plan, lever.key), lambda plan, v: {lever.key: round(v, 1)}
    )


def _path(path: Path, bounds: Bounds, under_db: float) -> Means:
    """under_db : how far its peak is under the kit's now"""
    place, now_db = f"paths.{path.id}", path.level_db
    highest = max(min(now_db + under_db - bounds.path_under, now_db + bounds.fader), now_db)
    lever = Lever(f"{place}.level_db", now_db, max(now_db - SOFTER_PATH_DB, OFF_DB + 1.0), highest, price=FADER_PRICE)
    return _level(lever, f"{path.name} path")


def _tool_row(plan: Plan, name: str, tool) -> dict[str, Any]:
    mine = places.named(plan, name)
    return {f"{mine.place}.tools": [each.to_json() for each in rows.with_own_id(mine.strip.tools, tool)]}


def _shaper(group: str, words: str, field: str, most_db: float) -> Means:
    name, what = f"group:{group}", field.removesuffix("_db")

    def changes(plan: Plan, value: float) -> dict[str, Any]:
        mine = places.named(plan, name).strip.tool(SHAPE) or Shaper(id=SHAPE)
        return _tool_row(plan, name, mine.replace(on=True, **{field: round(value, 1)}))

    def value(plan: Plan) -> float:
        mine = places.named(plan, name).strip.tool(SHAPE)
        return getattr(mine, field) if mine and mine.on else 0.0

    lever = Lever(f"{name}.{SHAPE}.{field}", 0.0, -most_db, most_db, price=SHAPER_PRICE)
    return Means(lever, f"groups.{group}.tools", lambda v: f"{words}: {what} {v:+.1f} dB", value, changes)


def _filter(group: Group, colour: tuple[str, Band], bounds: Bounds) -> Means:
    (what, band), name = colour, f"group:{group.id}"

    def same(each: Band) -> bool:
        return (each.kind, each.frequency_hz) == (band.kind, band.frequency_hz)

    def value(plan: Plan) -> float:
        mine = places.named(plan, name).strip.tool(COLOUR)
        return next((each.gain_db for each in mine.bands if same(each)), 0.0) if mine and mine.on else 0.0

    def changes(plan: Plan, gain_db: float) -> dict[str, Any]:
        mine = places.named(plan, name).strip.tool(COLOUR) or Tone(id=COLOUR)
        bands = (*(each for each in mine.bands if not same(each)), band.replace(gain_db=round(gain_db, 1)))
        return _tool_row(plan, name, mine.replace(on=True, bands=bands))

    lever = Lever(f"{name}.{COLOUR}.{what}", 0.0, -bounds.cut, bounds.lift, price=TONE_PRICE)
    words = f"{_named(group.name)}: {what} at {_hz(band.frequency_hz)}"
    return Means(lever, f"groups.{group.id}.tools", lambda v: f"{words} {v:+.1f} dB", value, changes)


def _hz(hz: float) -> str:
    return f"{hz:g} Hz" if hz < 1000.0 else f"{hz / 1000.0:g} kHz"


def _octave(hz: float, most_db: float) -> Means:
    def changes(plan: Plan, value: float) -> dict[str, Any]:
        mine = plan.kit.tool(EVEN) or Tone(id=EVEN)
        others = [band for band in mine.bands if band.frequency_hz != hz]
        bands = sorted(
            [*others, Band(frequency_hz=hz, gain_db=round(value, 1), q=EVEN_Q)], key=lambda b: b.frequency_hz
        )
        return _tool_row(plan, "kit", mine.replace(on=True, bands=tuple(bands)))

    def value(plan: Plan) -> float:
        mine = plan.kit.tool(EVEN)
        return next((band.gain_db for band in mine.bands if band.frequency_hz == hz), 0.0) if mine and mine.on else 0.0

    lever = Lever(f"kit.{EVEN}.{hz:g}", 0.0, -most_db, most_db, price=TONE_PRICE)
    return Means(lever, "kit.tools", lambda v: f"Kit: {_hz(hz)} {v:+.1f} dB", value, changes)


def _clip(plan: Plan, name: str, most_db: float, peaks: Peaks) -> Means:
    """A clipper as deep in the loudest hits as they come into it, so that a fader before it moves nothing of that."""

    def changes(plan: Plan, value: float) -> dict[str, Any]:
        bare = change.put(plan, _tool_row(plan, name, Grit(id=CLIP, on=False)))
        loudest_db = peaks.loudest_hits(bare, name)
        drive = min(max(round(value - (loudest_db or 0.0), 1), 0.0), Grit.ranges()["drive_db"].high)
        return _tool_row(plan, name, Grit(id=CLIP, on=True, shape="hard", drive_db=drive))

    def value(plan: Plan) -> float:
        mine = places.named(plan, name).strip.tool(CLIP)
        if mine is None or not mine.on:
            return 0.0
        bare = change.put(plan, _tool_row(plan, name, mine.replace(on=False)))
        return max(mine.drive_db + (peaks.loudest_hits(bare, name) or 0.0), 0.0)

    mine = places.named(plan, name)
    words = _named(mine.words)
    lever = Lever(f"{name}.{CLIP}", 0.0, 0.0, most_db, step=min(CLIP_STEP_DB, most_db), price=CLIP_PRICE)
    return Means(
        lever, f"{mine.place}.tools", lambda v: f"{words}: clipper, {v:.1f} dB off the loudest hits", value, changes
    )
