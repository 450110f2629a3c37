"""A strip's row of tools as its pages show it: a line of words in order, and the settings of each tool."""

import numpy as np

from arkund.core.dsp.spectrum import axis_hz
from arkund.core.kit.pieces import words_of
from arkund.core.rig import places
from arkund.core.rig.measure import Effect
from arkund.core.tools.tool import KINDS, Tool, module_of
from arkund.studio.services.measuring import Measure

LEVELS_DB = np.arange(-60.0, 6.5, 1.0)
NOTHING = Effect(None, None)


def row_of(m: Measure, name: str) -> dict:
    """Return a strip's row, with what each tool does where it is measured, and the strips that it can be copied to."""
    mine = places.named(m.plan, name)
    effects = m.effects(mine.name)
    return {
        "strip": mine.name,
        "place": mine.place,
        "name": mine.words,
        "tools": [_tool(tool, effects.get(tool.id, NOTHING), m.rate) for tool in mine.strip.tools],
        "kinds": list(KINDS),
        "keys": _keys(m, mine),
    }


def strips_of(m: Measure) -> list[dict]:
    """Return all strips, for choosing one."""
    return [
        {"name": each.name, "place": each.place, "words": each.words, "sort": each.sort}
        for each in places.all_of(m.plan)
    ]


def _curve(tool: Tool) -> list:
    """Return what a tool leaves of a level, as (in, out) in dB; nothing for one that has no such curve."""
    module = module_of(tool.kind)
    if not hasattr(module, "transfer_db"):
        return []
    return [LEVELS_DB.tolist(), np.round(module.transfer_db(tool, LEVELS_DB), 2).tolist()]


def _decay(tool: Tool, rate: int) -> list:
    """Return how long a room rings, as (Hz, s); nothing for what is none."""
    module = module_of(tool.kind)
    if not hasattr(module, "decay_curve_s"):
        return []
    hz = axis_hz(rate)[::3]
    return [np.round(hz, 1).tolist(), np.round(module.decay_curve_s(tool, hz, rate), 3).tolist()]


def _tool(tool: Tool, effect: Effect, rate: int) -> dict:
    return {
        "id": tool.id,
        "kind": tool.kind,
        "on": tool.on,
        "hits_db": effect.hits_db,
        "between_db": effect.between_db,
        "strokes": effect.strokes,
        "curve": _curve(tool),
        "decay": _decay(tool, rate),
        "settings": tool.to_json(),
    }


def _keys(m: Measure, mine: places.Named) -> list[dict]:
    """Return what a detector of this strip can listen to."""
    out = [{"of": "", "words": "itself"}]
    out += [{"of": f"hits:{piece}", "words": f"strikes of {words_of(piece)}"} for piece, hits in m.hits.items() if hits]
    out += [{"of": f"mic:{mic.id}", "words": mic.name} for mic in m.plan.mics if f"mic:{mic.id}" != mine.name]
    out += [{"of": f"group:{g.id}", "words": f"group {g.name}"} for g in m.plan.groups if f"group:{g.id}" != mine.name]
    known = {each["of"] for each in out}
    set_ = dict.fromkeys(tool.listens_to for tool in mine.strip.tools if tool.listens_to)
    return out + [{"of": of, "words": _key_words(of)} for of in set_ if of not in known]


def _key_words(of: str) -> str:
    """Return a key in words that is not among those that are offered: strikes of one drum but for those that another's are near."""
    kind, _, name = of.partition(":")
    if kind != "hits":
        return f"{kind} {name}"
    piece, _, other = name.partition("-")
    return f"strikes of {words_of(piece)}" + (f" away from {words_of(other)}" if other else "")
