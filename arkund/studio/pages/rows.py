"""A strip's row of tools as its pages show it: a line of words in order, and the settings of each tool."""

from arkund.core.rig import places
from arkund.core.rig.measure import Effect
from arkund.core.tools.tool import KINDS, Tool
from arkund.studio.services.measuring import Measure

NOTHING = Effect(None, None)


def row_of(m: Measure, name: str) -> dict:
    """Return a strip's row, with what each tool does where it is measured, and the strips that it can be copied to."""
    mine = places.named(m.plan, name)
    effects = m.effects(mine.name)
    return {
        "strip": mine.name,
        "place": mine.place,
        "name": mine.words,
        "tools": [_tool(tool, effects.get(tool.id, NOTHING)) for tool in mine.strip.tools],
        "kinds": list(KINDS),
        "keys": _keys(m, mine),
    }


def strips_of(m: Measure) -> list[dict]:
    """Return all strips, for choosing one."""
    return [
        {"name": each.name, "place": each.place, "words": each.words, "sort": each.sort}
        for each in places.all_of(m.plan)
    ]


def _tool(tool: Tool, effect: Effect) -> dict:
    return {
        "id": tool.id,
        "kind": tool.kind,
        "on": tool.on,
        "hits_db": effect.hits_db,
        "between_db": effect.between_db,
        "settings": tool.to_json(),
    }


def _keys(m: Measure, mine: places.Named) -> list[dict]:
    """Return what a detector of this strip can listen to."""
    out = [{"of": "", "words": "itself"}]
    out += [{"of": f"hits:{piece}", "words": f"strikes of {piece}"} for piece, hits in m.hits.items() if hits]
    out += [{"of": f"mic:{mic.id}", "words": mic.name} for mic in m.plan.mics if f"mic:{mic.id}" != mine.name]
    out += [{"of": f"group:{g.id}", "words": f"group {g.name}"} for g in m.plan.groups if f"group:{g.id}" != mine.name]
    return out
