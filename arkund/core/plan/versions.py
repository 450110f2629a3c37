"""Plans as they were stored, of whatever schema, as Plans of today. Pure functions of plain data; what they make prints the same.

Schema 1 had one fixed row of tools for mics, two paths by name and a bus. Its objects become tools whose id is the name of their kind, so that what was
``mics.ID.gate.threshold_db`` is ``mics.ID.tools.gate.threshold_db``. Section gains of mics become scenes.

Schema 2 laid a captured hit under all hits of its drum in the drum's mics. That becomes a layer through each of them.
"""

from collections.abc import Callable
from itertools import islice
from typing import Any

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import LAYER, is_close
from arkund.core.plan.plan import SCHEMA, Plan, Tempo
from arkund.core.plan.scenes import BEFORE_LINE_S
from arkund.core.rig.scenes import LAST_BAR
from arkund.core.settings import shown
from arkund.core.timing.bars import Bars, bars_of
from arkund.core.tools.tool import free_id

Data = dict[str, Any]

MOST_LAYERS_2 = 256  # strips that layers may become: each costs an id and a copy of its strikes
GROUPS_1 = ("kick", "snare", "toms", "cymbals", "rooms")
OFF_DB = -60.0
ROW_1 = ("gate", "tone", "shaper", "compressor")
PUNCH_1 = {"on": True, "threshold_db": -28.0, "ratio": 10.0, "knee_db": 3.0, "attack_ms": 25.0, "release_ms": 50.0}
SUSTAIN_1 = {"on": True, "threshold_db": -36.0, "ratio": 20.0, "knee_db": 3.0, "attack_ms": 0.1, "release_ms": 60.0, "detector_low_hz": 120.0}  # fmt: skip
PATHS_1 = {"punch": PUNCH_1, "sustain": SUSTAIN_1}
BUS_1 = {"threshold_db": -14.0, "ratio": 2.0, "attack_ms": 30.0, "release_ms": 120.0, "knee_db": 6.0}


def read_plan(data: Any, where: str = "", rate: int = 48_000) -> Plan:
    """Return a Plan from its stored form of any schema; rate : of its session, in Hz. Raises SettingsError for what is no Plan."""
    return Plan.from_json(upgrade(data, rate), where)


def upgrade(data: Any, rate: int = 48_000) -> Any:
    """Return a stored Plan in the form of today's schema; what is of today, or no Plan at all, is returned as it is."""
    if not isinstance(data, dict):
        return data
    schema = data.get("schema", 1)
    if type(schema) is not int or schema not in (SCHEMA, *STEPS):
        raise SettingsError(
            f"schema: {shown(schema)} is none that is known here ({SCHEMA} and before); was it made by a newer Arkund?"
        )
    while schema != SCHEMA:
        try:
            data = STEPS[schema](data, rate)
        except (TypeError, AttributeError, KeyError) as error:
            raise SettingsError(f"plan: is none of schema {schema} ({type(error).__name__}: {error}).") from error
        schema = data["schema"]
    return data


def _from_1(plan: Data, rate: int) -> Data:
    out = {name: value for name, value in plan.items() if name not in ("punch", "sustain", "bus")}
    mics = [_mic_1(mic) for mic in plan.get("mics", [])]
    used = {mic["group"] for mic in mics}
    return out | {
        "schema": 2,
        "mics": mics,
        "groups": [{"id": key, "name": key} for key in GROUPS_1 if key in used],
        "paths": [_path_1(key, plan.get(key) or {}, compressor) for key, compressor in PATHS_1.items()],
        "kit": _kit_1(plan.get("bus") or {}),
        "scenes": _scenes_1(plan, rate),
    }


def _scenes_1(plan: Data, rate: int) -> list[Data]:
    """Return the section gains of mics as scenes that hold their trims, over the bars whose lines lie nearest to where the gains changed."""
    bars = bars_of(Tempo.from_json(plan.get("tempo", {})))
    held: dict[tuple[int, int], list[Data]] = {}
    for mic in plan.get("mics", []):
        steps = mic.get("steps", [])
        lines = [_nearest_bar(bars, step["at"] / rate + BEFORE_LINE_S) for step in steps]
        for step, first, after in zip(steps, lines, [*lines, LAST_BAR][1:], strict=True):
            if step["gain_db"] and first < after:
                trim_db = min(max(mic.get("trim_db", 0.0) + step["gain_db"], -40.0), 40.0)
                held.setdefault((first, after), []).append({"place": f"mics.{mic['id']}.trim_db", "value": trim_db})
    return [
        {
            "id": f"gains-{k}",
            "name": f"Gains from bar {first + 1}",
            "bars": [[first, after]],
            "fade_ms": 60.0,
            "held": mine,
        }
        for k, ((first, after), mine) in enumerate(sorted(held.items()), 1)
    ]


def _nearest_bar(bars: Bars, time_s: float) -> int:
    bar = max(int(bars.bar_of(np.array([time_s]))[0]), 0)
    return bar if time_s - bars.start_s(bar) < bars.start_s(bar + 1) - time_s else bar + 1


def upgrade_template(data: Data) -> Data:
    """Return a stored template in the form of today's schema. Raises what plain data of another form raises."""
    if data.get("schema", 1) != 1:
        return data
    mics = {key: _strip_1(row) | {"group": _group_1(_kind_1(key))} for key, row in data["mics"].items()}
    paths = [_path_1(key, data[key], compressor) for key, compressor in PATHS_1.items()]
    shared = {name: data[name] for name in ("window", "alignment", "crossfade_ms")}
    groups = [{"id": key, "name": key} for key in GROUPS_1]
    return shared | {"schema": 2, "mics": mics, "groups": groups, "paths": paths, "kit": _kit_1(data["bus"])}


def _mic_1(mic: Data) -> Data:
    out = {name: value for name, value in mic.items() if name not in (*ROW_1, "mix", "steps")}
    return out | _strip_1(mic) | {"group": _group_1(mic)}


def _strip_1(mic: Data) -> Data:
    """Return the row of tools, the place and the sends of a mic."""
    mix = mic.get("mix", {})
    sends = [{"id": key, "level_db": db} for key in PATHS_1 if (db := mix.get(f"{key}_send_db", OFF_DB)) > OFF_DB]
    place = {name: mix[name] for name in ("level_db", "pan", "mute") if name in mix}
    tools = [_tool_1(kind, mic.get(kind, {})) for kind in ROW_1]
    return place | {"tools": tools, "sends": sends}


def _kind_1(key: str) -> Data:
    """Return piece and role of a template's kind of mic."""
    return dict(zip(("piece", "role"), key.split(" "), strict=False))


def _group_1(mic: Data) -> str:
    """Return the stem that a mic belonged to."""
    piece, role = mic.get("piece", "kit"), mic.get("role", "room")
    if role in ("room", "talkback"):
        return "rooms"
    if piece in ("kick", "snare"):
        return piece
    return "toms" if piece.startswith("tom") or piece == "floor" else "cymbals"


def _tool_1(kind: str, settings: Data, **more: Any) -> Data:
    settings = dict(settings)
    keys = {"key_low_hz": "low_hz", "key_high_hz": "high_hz", "detector_low_hz": "low_hz"}
    key = {name: settings.pop(old) for old, name in keys.items() if old in settings}
    return {"kind": kind, "id": kind} | settings | ({"key": key} if key else {}) | more


def _path_1(key: str, path: Data, compressor: Data) -> Data:
    return {
        "id": key,
        "name": key.upper(),
        "level_db": path.get("level_db", -12.0),
        "mute": not path.get("on", False),
        "tools": [_tool_1("compressor", path.get("compressor", compressor))],
    }


def _kit_1(bus: Data) -> Data:
    """Return the kit of a bus. What stood behind a limiter that was on, stood before it: its level is the limiter's input."""
    limited, level_db = bus.get("limiter_on", False), bus.get("level_db", 0.0)
    compressor = _tool_1("compressor", bus.get("compressor", BUS_1), share=bus.get("mix", 1.0))
    limiter = {
        "kind": "limiter",
        "id": "limiter",
        "on": limited,
        "input_db": level_db if limited else 0.0,
        "ceiling_db": bus.get("ceiling_db", -1.0),
        "release_ms": bus.get("limiter_release_ms", 60.0),
    }
    return {"tools": [compressor, limiter], "level_db": 0.0 if limited else level_db}


def _from_2(plan: Data, rate: int) -> Data:
    out = {name: value for name, value in plan.items() if name != "layers"}
    piece_of = {capture["id"]: capture["piece"] for capture in plan.get("captures", [])}
    mics, taken = list(plan.get("mics", [])), {mic["id"] for mic in plan.get("mics", [])}
    at_drum: dict[str, list[Data]] = {}
    for mic in (mic for mic in mics if is_close(mic.get("role"))):
        at_drum.setdefault(mic.get("piece"), []).append(mic)
    laid = ((layer, mic) for layer in plan.get("layers", []) for mic in at_drum.get(piece_of[layer["capture"]], []))
    pairs = list(islice(laid, MOST_LAYERS_2 + 1))
    if len(pairs) > MOST_LAYERS_2:
        raise SettingsError(f"layers: at most {MOST_LAYERS_2} in all mics.")
    for layer, mic in pairs:
        new = free_id(f"{mic['id']}-layer"[:50], taken)
        taken.add(new)
        mics.append(_layer_2(new, layer, mic))
    return out | {"schema": 3, "mics": mics}


def _layer_2(layer_id: str, layer: Data, mic: Data) -> Data:
    sound = {
        "shots": [{"capture": layer["capture"]}],
        "of": mic["id"],
        "follow": layer.get("follow", 1.0),
        "strikes": sorted(layer.get("strikes", [])),
    }
    return {
        "id": layer_id,
        "name": f"{mic['name']} layer",
        "piece": mic["piece"],
        "role": LAYER,
        "level_db": layer.get("level_db", -6.0),
        "mute": not layer.get("on", True),
        "into": mic["id"],
        "sampled": sound,
    }


STEPS: dict[int, Callable[[Data, int], Data]] = {1: _from_1, 2: _from_2}  # from each schema to the next
