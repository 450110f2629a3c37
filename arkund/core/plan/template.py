"""A session's settings as a starting point for others: per kind of mic, every tool loaded but bypassed."""

from typing import Any

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import is_tom
from arkund.core.plan import change
from arkund.core.plan.plan import SCHEMA, MicPlan, Plan
from arkund.core.plan.versions import upgrade_template

MIC_PARTS = ("tools", "level_db", "pan", "sends")
SHARED = ("window", "alignment", "crossfade_ms", "groups", "paths", "kit")


def key_of(mic: MicPlan) -> str:
    """Return the kind of mic that a template knows: piece, role and side."""
    return " ".join(word for word in (mic.piece, mic.role, mic.side) if word)


def template_of(plan: Plan) -> dict[str, Any]:
    """Return a Plan's settings by kind of mic, and those that all mics share, as plain data. Of several mics of a kind the first counts."""
    mics: dict[str, Any] = {}
    for mic in plan.mics:
        mic = mic.replace(tools=tuple(tool.bare() for tool in mic.tools))
        mine = mic.to_json() | {"sends": [send.to_json() for send in mic.sends]}
        mics.setdefault(key_of(mic), {part: mine[part] for part in MIC_PARTS} | {"group": mic.group})
    return {"schema": SCHEMA, "mics": mics} | {name: change.get(plan, name) for name in SHARED}


def changes_of(plan: Plan, template: dict[str, Any]) -> dict[str, Any]:
    """Return the changes by which a Plan starts from a template: its settings with every tool switched off, nothing muted or soloed, its paths muted.

    A tom that the template does not know gets another tom's; other mics that it does not know keep theirs, but for what refers to groups and paths that are
    gone. Raises SettingsError for what is no template.
    """
    try:
        template = upgrade_template(template)
        rows, out = template["mics"], {name: _bypassed(template[name]) for name in SHARED}
        out["paths"] = [path | {"mute": True} for path in template["paths"]]
        groups, paths = ({strip["id"] for strip in out[name]} for name in ("groups", "paths"))
        for mic in plan.mics:
            base = f"mics.{mic.id}"
            mine = rows.get(key_of(mic)) or (_any_tom(rows) if is_tom(mic.piece) else None)
            if mine is not None:
                out |= {f"{base}.{part}": _bypassed(mine[part]) for part in MIC_PARTS}
            else:
                out[f"{base}.sends"] = [send.to_json() for send in mic.sends if send.id in paths]
            out[f"{base}.mute"] = False
            group = mic.group if mine is None else mine.get("group", "")
            out[f"{base}.group"] = group if group in groups else ""
    except (KeyError, TypeError, AttributeError) as error:
        raise SettingsError(f"template: is none ({type(error).__name__}: {error}).") from error
    change.put(plan, out)  # checked before anything is made of it
    return out


def _any_tom(rows: dict[str, Any]) -> dict[str, Any] | None:
    return next((row for key, row in rows.items() if is_tom(key.split(" ")[0])), None)


def _bypassed(value: Any) -> Any:
    """Return settings with all that can be on switched off, at every depth."""
    if isinstance(value, list):
        return [_bypassed(each) for each in value]
    if not isinstance(value, dict):
        return value
    off = {"on": False, "mute": False}
    return {key: off[key] if key in off else _bypassed(each) for key, each in value.items()}
