"""A session's settings as a starting point for others: per kind of mic, every tool loaded but bypassed."""

from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import is_tom
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan

MIC_PARTS = ("gate", "tone", "shaper", "compressor", "mix")
PATHS = ("punch", "sustain")  # one is its compressor: it is switched off as a whole
SHARED = ("window", "alignment", "crossfade_ms", "punch", "sustain", "bus")


def key_of(mic: MicPlan) -> str:
    """Return the kind of mic that a template knows: piece, role and side."""
    return " ".join(word for word in (mic.piece, mic.role, mic.side) if word)


def template_of(plan: Plan) -> dict[str, Any]:
    """Return a Plan's settings by kind of mic, and those that all mics share, as plain data. Of several mics of a kind the first counts."""
    mics: dict[str, Any] = {}
    for mic in plan.mics:
        mics.setdefault(key_of(mic), {part: getattr(mic, part).to_json() for part in MIC_PARTS})
    return {"mics": mics} | {name: change.get(plan, name) for name in SHARED}


def changes_of(plan: Plan, template: dict[str, Any]) -> dict[str, Any]:
    """Return the changes by which a Plan starts from a template: its settings with every tool switched off, nothing muted or soloed.

    A tom that the template does not know gets another tom's; other mics that it does not know stay. Raises SettingsError for what is no
    template.
    """
    try:
        rows, out = template["mics"], {}
        for mic in plan.mics:
            mine = rows.get(key_of(mic)) or (_any_tom(rows) if is_tom(mic.piece) else None)
            if mine is not None:
                out |= {f"mics.{mic.id}.{part}": _bypassed(mine[part]) for part in MIC_PARTS}
        for name in SHARED:
            out[name] = template[name] | {"on": False} if name in PATHS else _bypassed(template[name])
    except (KeyError, TypeError, AttributeError) as error:
        raise SettingsError(f"template: is none ({type(error).__name__}: {error}).") from error
    change.put(plan, out)  # checked before anything is made of it
    return out


def _any_tom(rows: dict[str, Any]) -> dict[str, Any] | None:
    return next((row for key, row in rows.items() if is_tom(key.split(" ")[0])), None)


def _bypassed(value: Any) -> Any:
    """Return settings with all that can be on switched off, at every depth."""
    if not isinstance(value, dict):
        return value
    off = {"on": False, "limiter_on": False, "mute": False, "solo": False}
    return {key: off[key] if key in off else _bypassed(each) for key, each in value.items()}
