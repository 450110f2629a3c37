"""Blend: sections across strips, with what is set and heard in each; paths made by recipe, and raised until they are missed."""

import dataclasses
from typing import Self

import numpy as np

from arkund.core.blend.propose import MIX_PEAK_DB, FirstMix, first_balance, with_paths
from arkund.core.blend.recipes import FEEDS, FIRST_DB, LEVELS_DB, SHELLS, UNDER_DB, Raised, raised_by, sends_of
from arkund.core.card.measure import Sound, kit_figures
from arkund.core.dsp.loudness import measure as loudness_of
from arkund.core.errors import SettingsError
from arkund.core.findings import with_minus
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.plan.scenes import by_section
from arkund.core.rig import changes, places, usual
from arkund.core.rig.changes import Change
from arkund.core.rig.hearing import audible
from arkund.core.rig.places import KIT
from arkund.core.rig.strips import OFF_DB, Path
from arkund.core.tools.compressor import Compressor
from arkund.core.units import SILENCE_DB, gain_to_db
from arkund.studio.services import carding
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered, row_of

MIX = "mix"
OUTPUTS = {"mics": "strip", "groups": "group", "paths": "path"}
LEAST_PEAK_DB = -100.0
LEAST_LUFS = SILENCE_DB + 60.0  # below, nothing sounds


class Cells:
    """What the cells of a strip show. song : what was measured over the whole song, None where that is still to come"""

    def __init__(self, plan: Plan, song: dict | None) -> None:
        self._plan, self._song = plan.replace(scenes=()), song or {}
        self._parts = by_section(plan)

    def of(self, place: str) -> dict:
        """Return for a strip, by its place in the Plan, its level, mute and loudness in each section, and over the song; which of them a scene holds."""
        level, mute = f"{place}.level_db", f"{place}.mute"
        muted = [] if place == KIT else [change.get(part, mute) for part, _ in self._parts]
        held = [
            any(each.place in (level, mute) for scene in scenes for each in scene.held) for _, scenes in self._parts
        ]
        return {
            "levels_db": [change.get(part, level) for part, _ in self._parts],
            "mutes": muted,
            "held": held,
            "lufs": self._loudness(place),
        }

    def _loudness(self, place: str) -> list[float | None]:
        """Return how loud a strip is over the song and then in each section, None where it is not known or silent; mics with their level."""
        field, _, key = place.partition(".")
        found = self._song.get(KIT if field == KIT else f"{OUTPUTS[field]}:{key}")
        if found is None:
            return [None] * (1 + len(self._parts))
        levels = [found["loudness_lufs"], *found["sections_lufs"]]
        if field == "mics":  # measured before their level
            sets = [change.get(self._plan, f"{place}.level_db")] + [
                change.get(part, f"{place}.level_db") for part, _ in self._parts
            ]
            levels = [loud + set_db for loud, set_db in zip(levels, sets, strict=True)]
        return [None if loud < LEAST_LUFS else round(loud, 1) for loud in levels]


def add_path(measure: Measure, recipe: str, name: str = "", feed: str = SHELLS) -> Change:
    """Return the change that makes a path by a recipe: sent to by its school, as loud as what comes into it at its peak, and blended in from hardly anything.

    Without a recipe it is empty. Raises SettingsError for a recipe or a feed that is not known.
    """
    plan = measure.plan
    if feed not in FEEDS:
        raise SettingsError(f"feed: expected one of {', '.join(FEEDS)}; got {feed[:20]!r}.")
    made = changes.add_path(plan, recipe, name)
    if not recipe:
        return made
    path = Path.from_json(made.values["paths"][-1])
    sends = sends_of(recipe, [mic for mic in audible(plan) if not mic.is_layer], feed)
    values = dict(made.values)
    for mic_id, level_db in sends.items():
        kept = [send.to_json() for send in plan.mic(mic_id).sends]
        values[f"mics.{mic_id}.sends"] = [*kept, {"id": path.id, "level_db": level_db}]
    after = change.put(plan, values)
    matched, by_db = _as_high(measure, after, path) if sends else (path, 0.0)
    values["paths"] = [*made.values["paths"][:-1], matched.replace(level_db=FIRST_DB).to_json()]
    fed = ", ".join(plan.mic(mic_id).name for mic_id in sends) or "nobody yet"
    words = f"{made.title}, sent to by {fed}; made up by {by_db:+.1f} dB, blended in at {FIRST_DB:g} dB"
    return Change(with_minus(words)[:200], values)


def _as_high(measure: Measure, plan: Plan, path: Path) -> tuple[Path, float]:
    """Return a path whose output peaks as high as its input over the busiest part, by the make-up of its last compressor, and by how much that was raised."""
    last = next((tool for tool in reversed(path.tools) if tool.kind == "compressor"), None)
    audio = row_of(plan, measure.recordings, f"path:{path.id}", measure.busy_span())
    if last is None or not audio:
        return path, 0.0
    was, now = (float(gain_to_db(np.abs(x).max(initial=0.0))) for x in (audio[0], audio[-1]))
    if min(was, now) < LEAST_PEAK_DB:
        return path, 0.0
    limits = Compressor.ranges()["makeup_db"]
    makeup = round(float(np.clip(last.makeup_db + was - now, limits.low, limits.high)), 1)
    tools = tuple(tool.replace(makeup_db=makeup) if tool is last else tool for tool in path.tools)
    return path.replace(tools=tools), makeup - last.makeup_db


def first_mix(measure: Measure) -> FirstMix:
    """Return the levels of a first mix: groups by what all of them reach together, PUNCH and SUSTAIN as the shells drive them, made up to the
    peak of what comes in, and as far under the kit as its school wants.
    """
    plan = measure.plan
    mics = tuple(mic.replace(sends=()) for mic in plan.mics)
    groups = tuple(group.replace(sends=(), level_db=0.0) for group in plan.groups)
    bare = plan.replace(scenes=(), paths=(), mics=mics, groups=groups)
    bare = change.put(bare, first_balance(bare))

    def compute() -> dict:
        mix = rendered(bare, measure.recordings, measure.busy_span(), MIX)
        kit = Loud.of(mix, measure.rate)
        groups_db = float(np.clip(MIX_PEAK_DB - kit.peak_db, -24.0, 12.0)) if kit.peak_db > LEAST_PEAK_DB else 0.0
        paths = [_blended(measure, bare, recipe, kit, groups_db) for recipe in UNDER_DB[bare.school]]
        return {"groups_db": round(groups_db, 1), "paths": [path.to_json() for path in paths]}

    found = measure.kept("first mix", bare.to_json(), compute)
    return FirstMix(found["groups_db"], tuple(Path.from_json(each) for each in found["paths"]))


@dataclasses.dataclass(frozen=True, slots=True)
class Loud:
    """How high a sound peaks, and how loud it is."""

    peak_db: float
    lufs: float

    @classmethod
    def of(cls, audio: np.ndarray, rate: int) -> Self:
        """Measure float32 [shape=(samples, 2)]; gated, so that it does not hang on how much between the hits is silent."""
        found = loudness_of(np.ascontiguousarray(audio), rate)
        return cls(found.peak_db, found.loudness_lufs)


def _blended(measure: Measure, bare: Plan, recipe: str, kit: Loud, groups_db: float) -> Path:
    """Return a path by a recipe that is so far under the kit as its school wants: PUNCH by its peaks, the others by their loudness."""
    path = usual.PATHS[recipe](level_db=0.0)
    path, _ = _as_high(measure, change.put(bare, with_paths(bare, [path])), path)
    audio = row_of(
        change.put(bare, with_paths(bare, [path])), measure.recordings, f"path:{path.id}", measure.busy_span()
    )
    own = Loud.of(audio[-1].T, measure.rate) if audio else None
    if own is None or own.peak_db < LEAST_PEAK_DB:
        return path.replace(level_db=FIRST_DB)
    above = kit.peak_db - own.peak_db if recipe == "punch" else kit.lufs - own.lufs
    limits = Path.ranges()["level_db"]
    level = above + groups_db - UNDER_DB[bare.school][recipe]
    return path.replace(level_db=round(float(np.clip(level, limits.low, limits.high)), 1))


def raised(measure: Measure, path_id: str) -> dict:
    """Return a path without and at each of LEVELS_DB, with what it does to the kit, as a stage of dialling in is told.

    Raises SettingsError where there is no such path.
    """
    mine = places.named(measure.plan, f"path:{path_id}")

    def compute() -> dict:
        span = measure.busy_span()
        hits = carding.heard_hits(measure, span)

        def figures(level_db: float) -> dict:
            plan = places.with_strip(
                measure.plan.replace(scenes=()), mine.name, level_db=level_db, mute=level_db <= OFF_DB
            )
            return kit_figures(Sound(rendered(plan, measure.recordings, span, "kit"), hits, measure.rate))

        without = figures(OFF_DB)
        return {"rows": [dataclasses.asdict(raised_by(level, figures(level), without)) for level in LEVELS_DB]}

    bare = places.with_strip(measure.plan, mine.name, level_db=0.0, mute=False).to_json()
    rows = [Raised(**each) for each in measure.kept("raised", [bare, path_id], compute)["rows"]]
    versions = [{"words": "without it", "told": "", "settings": OFF_DB}]
    versions += [
        {"words": with_minus(f"{each.level_db:g} dB"), "told": with_minus(each.words), "settings": each.level_db}
        for each in rows
    ]
    return {
        "key": "raise",
        "number": 0,
        "of": 1,
        "title": f"How loud is {mine.words}?",
        "listen_for": "the first level at which it is missed when it goes",
        "timed": False,
        "place": f"{mine.place}.level_db",
        "versions": versions,
    }
