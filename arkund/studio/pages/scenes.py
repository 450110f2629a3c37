"""Scenes as pages show them: where each holds, and what, beside what the rest of the song has."""

from arkund.core.plan.plan import Plan
from arkund.core.plan.scenes import usual
from arkund.core.rig.places import KIT, all_of
from arkund.core.rig.scenes import Held, Scene
from arkund.studio.pages.fields import label


def scenes_of(plan: Plan) -> list[dict]:
    """Return a Plan's scenes for a page."""
    words = {each.place: each.words for each in all_of(plan)}
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
    steps = held.place.split(".")
    strip, what = (steps[:1], steps[1:]) if steps[0] == KIT else (steps[:2], steps[2:])
    said = " ".join(label(each) for each in what if each != "tools")
    if what[0] == "sends":
        said = f"send to {words.get(f'paths.{what[1]}', what[1])}"
    return {
        "place": held.place,
        "words": f"{words.get('.'.join(strip), strip[-1])}: {said}",
        "value": held.value,
        "usual": usual(plan.replace(scenes=()), held.place),
    }
