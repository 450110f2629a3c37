"""Scenes as pages show them: where each holds, and what, beside what the rest of the song has."""

from arkund.core.plan.plan import Plan
from arkund.core.plan.scenes import usual
from arkund.core.rig import places
from arkund.core.rig.scenes import Held, Scene


def scenes_of(plan: Plan) -> list[dict]:
    """Return a Plan's scenes for a page."""
    words = {each.place: each.words for each in places.all_of(plan)} | {
        f"paths.{path.id}": path.name for path in plan.paths
    }
    return [_scene(scene, plan, words) for scene in plan.scenes]


def _scene(scene: Scene, plan: Plan, words: dict[str, str]) -> dict:
    return {
        "id": scene.id,
        "name": scene.name,
        "sections": list(scene.sections),
        "bars": [list(each) for each in scene.bars],
        "fade_ms": scene.fade_ms,
        "holds_in": [list(each) for each in scene.spans(plan.sections)],
        "held": [_held(each, plan, words) for each in scene.held],
    }


def _held(held: Held, plan: Plan, words: dict[str, str]) -> dict:
    parts = held.place.split(".")
    strip = "kit" if parts[0] == "kit" else ".".join(parts[:2])
    tail = held.place[len(strip) + 1 :]
    if tail.startswith("sends."):
        tail = f"send to {words.get(f'paths.{tail.split(chr(46))[1]}', '')}"
    else:
        tail = tail.removeprefix("tools.").replace("_db", "").replace("_", " ").replace(".", " ")
    return {
        "place": held.place,
        "words": f"{words.get(strip, strip)}: {tail}",
        "value": held.value,
        "usual": usual(plan.replace(scenes=()), held.place),
    }
