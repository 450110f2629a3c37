"""The signal path as data: nodes with settings and inputs, built from the Plan by one function.

A node's key is a hash of its kind, its settings and its inputs' keys, so equal work has an equal key whatever Plan it comes
from. Its reach says how many samples it must see before and after a span.
"""

import hashlib
import json
from dataclasses import dataclass

from arkund.core.blend.settings import OFF_DB, BusSettings, PathSettings
from arkund.core.clean import process as clean
from arkund.core.dsp import limiter
from arkund.core.dsp.bank import WIDE
from arkund.core.kit.pieces import group_of
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.punch import process as punch
from arkund.core.render.source import SOURCE_REACH, source_settings
from arkund.core.tone import process as tone

REACH_STEP_S = 2.0  # reaches are rounded up to multiples, so that most strips share a bank and cached spans stay useful
PATHS = ("punch", "sustain")


@dataclass(frozen=True, slots=True)
class Node:
    """One operation: ``inputs`` are names of other nodes, ``key`` its content hash, reaches in samples."""

    name: str
    kind: str
    key: str
    inputs: tuple[str, ...]
    before: int
    after: int
    settings: object = None


def build(plan: Plan, sample_rate_hz: int) -> dict[str, Node]:
    """Return all nodes of a Plan by name: ``strip:MIC``, ``path:PATH``, ``mix``, ``kit``, ``group:GROUP``, ``drum:PIECE``."""
    rate, nodes = sample_rate_hz, {}
    for mic in plan.mics:
        nodes[f"strip:{mic.id}"] = _strip(plan, mic, rate)
    heard = audible(plan)
    for path in PATHS:
        settings: PathSettings = getattr(plan, path)
        sent = [mic for mic in heard if send_db(mic, path) > OFF_DB] if settings.on else []
        inputs = tuple(f"strip:{mic.id}" for mic in sent)
        sends = [[send_db(mic, path), mic.mix.pan] for mic in sent]
        before, after = punch.compressor_reach(settings.compressor, rate)
        nodes[f"path:{path}"] = _node(
            nodes,
            f"path:{path}",
            "path",
            {"path": settings.to_json(), "sends": sends},
            inputs,
            before,
            after,
            path,
            rate,
        )
    mics = tuple(f"strip:{mic.id}" for mic in heard)
    places = [[mic.mix.level_db, mic.mix.pan] for mic in heard]
    paths = tuple(f"path:{path}" for path in PATHS if getattr(plan, path).on)
    nodes["mix"] = _node(nodes, "mix", "sum", {"places": places}, mics + paths, 0, 0, heard, rate)
    before, after = _bus_reach(plan.bus, rate)
    nodes["kit"] = _node(nodes, "kit", "bus", plan.bus.to_json(), ("mix",), before, after, plan.bus, rate)
    for name, members in _gatherings(plan).items():
        inputs = tuple(f"strip:{mic.id}" for mic in members)
        places = [[mic.mix.level_db, mic.mix.pan] for mic in members]
        nodes[name] = _node(nodes, name, "sum", {"places": places}, inputs, 0, 0, members, rate)
    return nodes


def audible(plan: Plan) -> list[MicPlan]:
    """Return the mics that are heard in the kit: not muted, and only the soloed ones where any is soloed."""
    solo = any(mic.mix.solo for mic in plan.mics)
    return [mic for mic in plan.mics if not mic.mix.mute and (mic.mix.solo or not solo)]


def send_db(mic: MicPlan, path: str) -> float:
    """Return how much of a mic a path gets."""
    return getattr(mic.mix, f"{path}_send_db")


def _gatherings(plan: Plan) -> dict[str, list[MicPlan]]:
    out: dict[str, list[MicPlan]] = {}
    for mic in audible(plan):
        out.setdefault(f"group:{group_of(mic.piece, mic.role)}", []).append(mic)
    for mic in plan.mics:
        out.setdefault(f"drum:{mic.piece}", []).append(mic)
        out[f"alone:{mic.id}"] = [mic]
    return out


def _strip(plan: Plan, mic: MicPlan, rate: int) -> Node:
    reaches = (
        clean.reach(mic.gate, rate),
        tone.reach(mic.tone, rate),
        punch.shaper_reach(mic.shaper, rate),
        punch.compressor_reach(mic.compressor, rate),
        (SOURCE_REACH, SOURCE_REACH),
    )
    settings = {
        "source": source_settings(plan, mic),
        "gate": mic.gate.to_json() if mic.gate.on else None,
        "tone": mic.tone.to_json() if mic.tone.on else None,
        "shaper": mic.shaper.to_json() if mic.shaper.on else None,
        "compressor": mic.compressor.to_json() if mic.compressor.on else None,
    }
    before, after = sum(r[0] for r in reaches), sum(r[1] for r in reaches)
    return _node({}, f"strip:{mic.id}", "strip", settings, (), before, after, mic, rate)


def _bus_reach(bus: BusSettings, rate: int) -> tuple[int, int]:
    before, after = punch.compressor_reach(bus.compressor, rate)
    if bus.limiter_on:
        more = limiter.reach(bus.limiter_release_ms, rate)
        before, after = before + more[0], after + more[1]
    return before, after


def _node(nodes, name, kind, settings, inputs, before, after, payload, rate) -> Node:
    content = {"kind": kind, "settings": settings, "inputs": [nodes[i].key for i in inputs], "rate": rate}
    key = hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()
    return Node(name, kind, key, inputs, rounded(before, rate), after, payload)


def rounded(reach: int, rate: int) -> int:
    """Return a reach rounded up to a multiple of REACH_STEP_S; 0 stays 0."""
    if reach <= 0:
        return 0
    step = int(REACH_STEP_S * rate)
    return -(-reach // step) * step


def batches(nodes: list[Node]) -> list[list[Node]]:
    """Split strips into banks of equal reach: all lanes of a bank start at the same sample, so a strip's samples do not depend
    on which others it is rendered with.
    """
    groups: dict[int, list[Node]] = {}
    for node in nodes:
        groups.setdefault(node.before, []).append(node)
    return [group[i : i + WIDE] for group in groups.values() for i in range(0, len(group), WIDE)]
