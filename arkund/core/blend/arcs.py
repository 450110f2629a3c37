"""The arc of a song: where the playing gets denser and louder, parallel paths and rooms come up, hats go down a little and a low layer comes in: scenes."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_shell
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.rig.scenes import Held, Scene
from arkund.core.timing.bars import Bars
from arkund.core.tools.tool import free_id

FEWEST_STROKES = 8  # in a section that is judged
CALLS_DB = 2.0  # of intensity over the song's calmer sections, from which on a section calls for more
DB_PER_DOUBLED = 4.0  # what twice as many strokes a bar count for
LEAST_DB, MOST_DB = 1.0, 3.0  # by which a path comes up
ROOMS_SHARE, HATS_SHARE = 0.5, -0.5  # of that
FADE_MS = 60.0


@dataclass(frozen=True, slots=True)
class Intensity:
    """How a section is played. strokes : of shells a bar; loudness_db : of its strong ones against the song's, by drum; over_db : both together, against the
    calmest section
    """

    name: str
    bar: int
    strokes: float
    loudness_db: float
    over_db: float = 0.0


def intensities(hits: Mapping[str, Sequence], sections: Sequence, bars: Bars) -> list[Intensity]:
    """Return how intensely each section is played; those with too few strokes are left out.

    hits : by piece, with .time_s, .level_db, .ghost; sections : with .name and .bar, in order
    """
    numbers, levels = [], []
    for piece, mine in hits.items():
        strong = [h for h in mine if not h.ghost]
        if is_shell(piece) and strong:
            numbers.append(bars.bar_of(np.array([h.time_s for h in strong])))
            level = np.array([h.level_db for h in strong])
            levels.append(level - np.median(level))
    if not numbers or not sections:
        return []
    number, level = np.concatenate(numbers), np.concatenate(levels)
    ends = [*(section.bar for section in sections[1:]), int(number.max()) + 1]
    out = []
    for section, end in zip(sections, ends, strict=True):
        inside = (number >= section.bar) & (number < end)
        if inside.sum() >= FEWEST_STROKES and end > section.bar:
            strokes = float(inside.sum()) / (end - section.bar)
            out.append(Intensity(section.name, section.bar, round(strokes, 2), round(float(level[inside].mean()), 2)))
    if not out:
        return []
    whole = [each.loudness_db + DB_PER_DOUBLED * float(np.log2(each.strokes)) for each in out]
    calmest = min(whole)
    return [
        Intensity(each.name, each.bar, each.strokes, each.loudness_db, round(mine - calmest, 2))
        for each, mine in zip(out, whole, strict=True)
    ]


def propose(plan: Plan, found: Sequence[Intensity]) -> list[Finding]:
    """Return a note for each thing that comes up, or goes down, where the playing calls for more: parallel paths, rooms, hats; and low layers, which are left
    out elsewhere. Sections of one name are taken together; what a scene holds in one of them already is left as it is.
    """
    over: dict[str, list[float]] = {}
    for each in found:
        over.setdefault(each.name, []).append(each.over_db)
    mean = {name: float(np.mean(mine)) for name, mine in over.items()}
    called = [name for name, by in mean.items() if by >= CALLS_DB]
    if not called or len(called) == len(mean):
        return []
    lift_db = float(np.clip(np.mean([mean[name] for name in called]) / 2.0, LEAST_DB, MOST_DB))
    playing = [each for each in found if each.name in called]
    evidence = (
        f"{', '.join(called)}: {np.mean([each.strokes for each in playing]):.0f} strokes of kick, snare and toms a bar,"
        f" {np.mean([each.loudness_db for each in playing]):+.1f} dB against the song, {np.mean([each.over_db for each in playing]):.1f} dB more intense than"
        " the calmest section (twice the strokes count for 4 dB). The rest of the song stays as it is."
    )
    held = {each.place for scene in plan.scenes for each in scene.held if set(called) & set(scene.sections)}
    levels = [(f"paths.{path.id}.level_db", f"{path.name} path", lift_db) for path in plan.paths if not path.mute]
    groups = {group.id: group for group in plan.groups if not group.mute}
    for group_id, share in (("rooms", ROOMS_SHARE), ("cymbals", HATS_SHARE)):
        if group_id in groups:
            levels.append((f"groups.{group_id}.level_db", f"{groups[group_id].name} group", share * lift_db))
    out = []
    for place, words, by_db in levels:
        if place not in held:
            value = round(change.get(plan, place) + by_db, 1)
            scene = _scene(plan, called, place, value, f"{words} {by_db:+.1f} dB")
            out.append(_note(plan, scene, f"In {', '.join(called)}: {scene.name}", evidence))
    rest = [name for name in mean if name not in called]
    held_there = {each.place for scene in plan.scenes for each in scene.held if set(rest) & set(scene.sections)}
    for layer in plan.mics:
        place = f"mics.{layer.id}.mute"
        if layer.made and layer.piece == "kick" and not layer.mute and place not in held_there:
            scene = _scene(plan, rest, place, True, f"{layer.name} off")
            title = f"Only in {', '.join(called)}: {layer.name}"
            out.append(_note(plan, scene, title, f"{evidence} A low layer that comes in there makes them bigger."))
    return out


def _note(plan: Plan, scene: Scene, title: str, evidence: str) -> Finding:
    (held,) = scene.held
    changes = {"scenes": [each.to_json() for each in (*plan.scenes, scene)]}
    return Finding("blend", f"blend:arc:{held.place}", "kit", title, evidence, changes, first_choice=False)


def _scene(plan: Plan, sections: Sequence[str], place: str, value: float | bool, name: str) -> Scene:
    return Scene(
        id=free_id(f"arc-{place.split('.')[1]}", {scene.id for scene in plan.scenes}),
        name=name[:40],
        sections=tuple(sections),
        fade_ms=FADE_MS,
        held=(Held(place=place, value=value),),
    )
