"""Blend: sections across strips, with what is set and heard in each; paths made by recipe, and raised until they are missed."""

import dataclasses

from arkund.core.blend import first_mix as first
from arkund.core.blend.first_mix import FirstMix
from arkund.core.blend.recipes import (
    FEEDS,
    FIRST_DB,
    LEVELS_DB,
    SHELLS,
    Raised,
    made_up,
    raised_by,
    sends_of,
    with_paths,
)
from arkund.core.card.measure import kit_figures
from arkund.core.card.sound import Sound
from arkund.core.dsp.loudness import Loudness
from arkund.core.dsp.loudness import measure as loudness
from arkund.core.errors import SettingsError
from arkund.core.findings import with_minus
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.plan.scenes import by_section
from arkund.core.render.graph import MIX
from arkund.core.rig import changes, places, usual
from arkund.core.rig.changes import Change
from arkund.core.rig.hearing import audible
from arkund.core.rig.places import KIT
from arkund.core.rig.strips import OFF_DB, Path
from arkund.core.units import SILENCE_DB, peak_db
from arkund.studio.services import carding
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered, row_of

OUTPUTS = {"mics": "strip", "groups": "group", "paths": "path"}
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
    matched = _as_high(measure, change.put(plan, with_paths(plan, [path], sends)), path)
    values = with_paths(plan, [matched.replace(level_db=FIRST_DB)], sends)
    fed = ", ".join(plan.mic(mic_id).name for mic_id in sends) or "nobody yet"
    by_db = sum(tool.makeup_db for tool in matched.tools if tool.kind == "compressor")
    words = f"{made.title}, sent to by {fed}; made up by {by_db:+.1f} dB, blended in at {FIRST_DB:g} dB"
    return Change(with_minus(words)[:200], dict(made.values) | values)


def _as_high(measure: Measure, plan: Plan, path: Path) -> Path:
    """Return a path made up to the peak of what comes in over the busiest part."""
    audio = row_of(plan, measure.recordings, f"path:{path.id}", measure.busy_span())
    if not audio:
        return path
    return made_up(path, peak_db(audio[0]), peak_db(audio[-1]))


def first_mix(measure: Measure) -> FirstMix:
    """Return the levels of a first mix as they are measured over the busiest part."""
    bare = first.bare(measure.plan)
    bare = change.put(bare, first.first_balance(bare))

    def compute() -> dict:
        mix = loudness(rendered(bare, measure.recordings, measure.busy_span(), MIX), measure.rate)
        paths = [_blended(measure, bare, recipe, mix) for recipe in first.FIRST_PATHS]
        return {"groups_db": first.groups_db(mix), "paths": [path.to_json() for path in paths]}

    found = measure.kept("first mix", bare.to_json(), compute)
    return FirstMix(found["groups_db"], tuple(Path.from_json(each) for each in found["paths"]))


def _blended(measure: Measure, bare: Plan, recipe: str, mix: Loudness) -> Path:
    """Return a path by a recipe, made up, that is so far under the mix as its school wants."""
    path = usual.PATHS[recipe](level_db=0.0)

    def fed(mine: Path) -> Plan:
        return change.put(bare, with_paths(bare, [mine], first.shells(bare)))

    path = _as_high(measure, fed(path), path)
    audio = row_of(fed(path), measure.recordings, f"path:{path.id}", measure.busy_span())
    level_db = first.path_db(bare.school, loudness(audio[-1].T, measure.rate), mix) if audio else FIRST_DB
    return path.replace(level_db=level_db)


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
