"""Scenes over the song: which settings hold when, as a row of Plans without scenes."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from graphlib import CycleError, TopologicalSorter
from itertools import combinations
from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.rig.scenes import LAST_BAR, MOST_SCENES, Scene
from arkund.core.rig.strips import OFF_DB, Send, once
from arkund.core.rig.wiring import feeds_of
from arkund.core.settings import plain, typed
from arkund.core.timing.bars import bars_of
from arkund.core.timing.note_values import is_note
from arkund.core.units import ms_to_samples

SILENT_DB = -120.0  # of a layer that is muted
OF_A_LAYER = ("level_db", "mute")  # what a scene may set of one that goes through a mic
BEFORE_LINE_S = 0.03  # a change is over so much before the bar line: a stroke that comes early belongs to its bar


@dataclass(frozen=True, slots=True)
class Part:
    """What holds in a part of the song. at : the sample from which it alone holds, None for what holds first; fade : samples before that in which it comes."""

    at: int | None
    fade: int
    plan: Plan


# A level in dB that holds first, and those that follow: from which sample on, so many samples before in which it comes, dB.
Steps = tuple[float, tuple[tuple[int, int, float], ...]]
Holding = tuple[int | None, int, frozenset[int]]  # as a Part's, with the numbers of the scenes that hold


def parts(plan: Plan, rate: int) -> tuple[Part, ...]:
    """Return what holds over the song, part by part, in order; one part where there are no scenes. Raises SettingsError: see :func:`check`."""
    bare = plan.replace(scenes=()) if plan.scenes else plan
    row = _holding(plan, rate)
    made = {scenes: _applied(bare, [plan.scenes[k] for k in sorted(scenes)]) for *_, scenes in row}
    return tuple(Part(at, fade, made[scenes]) for at, fade, scenes in row)


def trims(plan: Plan, rate: int) -> dict[str, Steps]:
    """Return the trims that change over the song, by mic: what holds first in dB, and the steps that follow, as ``level.process.stepped`` takes them."""
    held = {
        (k, each.place.split(".")[1]): float(each.value)
        for k, scene in enumerate(plan.scenes)
        for each in scene.held
        if each.place.endswith(".trim_db")
    }
    row = _holding(plan, rate) if held else []
    return {
        mic.id: _steps(
            row, [next((held[k, mic.id] for k in scenes if (k, mic.id) in held), mic.trim_db) for *_, scenes in row]
        )
        for mic in (plan.mic(mic_id) for mic_id in dict.fromkeys(mic_id for _, mic_id in held))
    }


def laid(plan: Plan, rate: int) -> dict[str, Steps]:
    """Return the levels that change over the song of layers that go through a mic, by layer: what holds first in dB, its trim included, and the steps that
    follow; one that is muted is at SILENT_DB.
    """
    mine = [mic for mic in plan.mics if mic.into]
    starts = tuple(f"mics.{mic.id}." for mic in mine)
    if not any(each.place.startswith(starts) for scene in plan.scenes for each in scene.held):
        return {}
    row = _holding(plan, rate)
    bare = plan.replace(scenes=())
    plans = {scenes: _applied(bare, [plan.scenes[k] for k in sorted(scenes)]) for *_, scenes in row}
    out = {}
    for mic in mine:
        held = [plans[scenes].mic(mic.id) for *_, scenes in row]
        steps = _steps(row, [SILENT_DB if each.mute else each.level_db + each.trim_db for each in held])
        if steps[1]:
            out[mic.id] = steps
    return out


def _steps(row: list[Holding], level_of: list[float]) -> Steps:
    """Return levels of what holds change by change as the first of them and the steps that follow."""
    steps = [
        (at, fade, db) for (at, fade, _), db, last in zip(row[1:], level_of[1:], level_of, strict=False) if db != last
    ]
    return level_of[0], tuple(steps)


def _holding(plan: Plan, rate: int) -> list[Holding]:
    """Return which scenes hold over the song, change by change."""
    bars = bars_of(plan.tempo)
    edges: list[tuple[int | None, int, bool]] = []  # where a scene comes or goes: when, which, comes
    for number, scene in enumerate(plan.scenes):
        for first, after in _joined(scene.spans(plan.sections)) if scene.held else ():
            edges.append((_line(bars, first, rate), number, True))
            if after is not None:
                edges.append((_line(bars, after, rate), number, False))
    out: list[Holding] = [(None, 0, frozenset(number for at, number, comes in edges if at is None and comes))]
    for at in sorted({at for at, *_ in edges if at is not None}):
        before, mine = out[-1], [(number, comes) for when, number, comes in edges if when == at]
        going = {number for number, comes in mine if not comes}
        holding = (before[2] - going) | {number for number, comes in mine if comes}
        if holding != before[2]:
            fade = round(ms_to_samples(max(plan.scenes[number].fade_ms for number in holding ^ before[2]), rate))
            out.append((at, min(fade, at - (before[0] or 0)), frozenset(holding)))
    return out


def _line(bars, bar: int, rate: int) -> int | None:
    """Return when what holds from a bar on is there; None for the song's beginning."""
    at = round((bars.start_s(bar) - BEFORE_LINE_S) * rate)
    return at if bar > 0 and at > 0 else None


def _joined(spans: Iterable[tuple[int, int | None]]) -> list[tuple[int, int | None]]:
    """Return spans in order, those that meet as one."""
    out: list[tuple[int, int | None]] = []
    for first, after in sorted(spans, key=lambda span: span[0]):
        if out and (out[-1][1] is None or out[-1][1] >= first):
            last = None if after is None or out[-1][1] is None else max(after, out[-1][1])
            out[-1] = (out[-1][0], last)
        else:
            out.append((first, after))
    return out


def applied(plan: Plan, scene_id: str) -> Plan:
    """Return the Plan as it is where a scene holds and no other, for the whole song. Raises SettingsError where there is none of the id."""
    return _applied(plan.replace(scenes=()), [scene_of(plan, scene_id)])


def by_section(plan: Plan) -> list[tuple[Plan, tuple[Scene, ...]]]:
    """Return for each section of a song the Plan without scenes as it is where the section begins, and the scenes that hold there."""
    bare, out = plan.replace(scenes=()), []
    for section in plan.sections:
        holding = [
            scene
            for scene in plan.scenes
            if any(
                first <= section.bar < (LAST_BAR if after is None else after)
                for first, after in scene.spans(plan.sections)
            )
        ]
        out.append((_applied(bare, holding), tuple(holding)))
    return out


def scene_of(plan: Plan, scene_id: str) -> Scene:
    """Return a scene by its id; raises SettingsError where there is none."""
    for scene in plan.scenes:
        if scene.id == scene_id:
            return scene
    raise SettingsError(f"scenes: no scene {scene_id!r}; there are {', '.join(s.id for s in plan.scenes) or 'none'}.")


def _applied(plan: Plan, scenes: Sequence[Scene]) -> Plan:
    try:
        values = _values(plan, scenes)
        return change.put(plan, values) if values else plan
    except SettingsError as error:
        names = ", ".join(scene.name for scene in scenes)
        raise SettingsError(f"scene {names}: {error}") from None


def _values(plan: Plan, scenes: Sequence[Scene]) -> dict[str, Any]:
    """Return what scenes hold as values by place; a send that is not there yet is made."""
    out: dict[str, Any] = {}
    sends: dict[str, dict[str, float]] = {}
    for scene in scenes:
        for each in scene.held:
            strip, found, rest = each.place.partition(".sends.")
            if found:
                mine = sends.setdefault(
                    f"{strip}.sends", {send["id"]: send["level_db"] for send in change.get(plan, f"{strip}.sends")}
                )
                mine[rest.partition(".")[0]] = each.value
            else:
                out[each.place] = each.value
    return out | {place: [{"id": key, "level_db": db} for key, db in mine.items()] for place, mine in sends.items()}


def held_in(plan: Plan, scene: Scene, changes: dict[str, Any]) -> Scene:
    """Return a scene that holds changed settings (values by place, rows of sends as pages change them); one that is as in the rest of the song is let go.

    Raises SettingsError for what no scene can hold.
    """
    bare = plan.replace(scenes=())
    new = {place: value for given, wanted in changes.items() for place, value in _flat(bare, scene, given, wanted)}
    others = {place: usual(bare, place) for place in new}
    kept = [each for each in scene.held if each.place not in new]
    fresh = [{"place": place, "value": value} for place, value in new.items() if plain(value) != others[place]]
    return Scene.from_json(scene.to_json() | {"held": [*(each.to_json() for each in kept), *fresh]})


def _flat(plan: Plan, scene: Scene, place: str, value: Any) -> Iterable[tuple[str, Any]]:
    """Yield single settings of what pages change as a whole: rows of sends, where those that are left out are closed, and of filters."""
    if not isinstance(value, list):
        yield place, value
    elif place.endswith(".sends"):
        given = {send.id: send.level_db for send in typed(tuple[Send, ...], value, place)}
        known = [send["id"] for send in change.get(plan, place)]
        known += [each.place.split(".")[-2] for each in scene.held if each.place.startswith(f"{place}.")]
        yield from ((f"{place}.{key}.level_db", given.get(key, OFF_DB)) for key in dict.fromkeys([*known, *given]))
    else:
        old = change.get(plan, place)
        if not isinstance(old, list) or len(old) != len(value) or not all(isinstance(each, dict) for each in value):
            raise SettingsError(f"{place}: a scene changes what is there; add or take away in the whole song.")
        yield from ((f"{place}.{k}.{name}", each[name]) for k, each in enumerate(value) for name in each)


def usual(plan: Plan, place: str) -> Any:
    """Return what a setting is in the rest of the song, by its place; ``plan`` has no scenes."""
    strip, found, rest = place.partition(".sends.")
    if not found:
        return change.get(plan, place)
    sends = {send["id"]: send["level_db"] for send in change.get(plan, f"{strip}.sends")}
    return sends.get(rest.partition(".")[0], OFF_DB)


def still_there(plan: Plan) -> tuple[Scene, ...]:
    """Return a Plan's scenes without what they hold of strips, tools and paths that are gone."""
    bare = plan.replace(scenes=())
    return tuple(
        scene.replace(held=tuple(each for each in scene.held if _is_there(bare, each.place))) for scene in plan.scenes
    )


def _is_there(plan: Plan, place: str) -> bool:
    strip, sends, rest = place.partition(".sends.")
    try:
        change.get(plan, f"{strip}.sends" if sends else place)
    except SettingsError:
        return False
    return not sends or any(path.id == rest.partition(".")[0] for path in plan.paths)


def check(plan: Plan) -> None:
    """Raise SettingsError where a scene holds what is not there or out of range, where two hold one setting in one bar, or feed strips in a circle."""
    if not plan.scenes:
        return
    once("scenes", [scene.id for scene in plan.scenes])
    if len(plan.scenes) > MOST_SCENES:
        raise SettingsError(f"scenes: at most {MOST_SCENES}, got {len(plan.scenes)}.")
    bare = plan.replace(scenes=())
    inside = tuple(f"mics.{mic.id}." for mic in plan.mics if mic.into)
    for name, place in ((scene.name, each.place) for scene in plan.scenes for each in scene.held):
        if place.startswith(inside) and place.rpartition(".")[2] not in OF_A_LAYER:
            raise SettingsError(
                f"scene {name}: {place} cannot change by section, because this layer goes through a mic; its level and mute can. "
                "Give it a channel of its own for the rest."
            )
    for name, each in ((scene.name, each) for scene in plan.scenes for each in scene.held):
        if each.place.endswith(".release_by") and is_note(each.value):
            raise SettingsError(
                f"scene {name}: {each.place} follows the tempo for the whole song; set release_ms in the scene instead."
            )
    wired: dict[str, set[str]] = {}
    for scene in plan.scenes:
        mine = _applied(bare, [scene])
        for name, before in feeds_of(mine.standing, mine.groups, mine.paths).items():
            wired.setdefault(name, set()).update(before)
    for a, b in combinations(plan.scenes, 2):
        both = {each.place for each in a.held} & {each.place for each in b.held}
        if both and (bar := _common_bar(a.spans(plan.sections), b.spans(plan.sections))) is not None:
            raise SettingsError(
                f"scenes: {a.name} and {b.name} both set {min(both)} in bar {bar + 1}; take it out of one."
            )
    try:
        TopologicalSorter(wired).prepare()
    except CycleError as error:
        raise SettingsError(f"scenes: together they feed strips in a circle: {' → '.join(error.args[1])}.") from None


def _common_bar(one: Sequence[tuple[int, int | None]], other: Sequence[tuple[int, int | None]]) -> int | None:
    for a_first, a_after in one:
        for b_first, b_after in other:
            first = max(a_first, b_first)
            if first < min(LAST_BAR if after is None else after for after in (a_after, b_after)):
                return first
    return None
