"""The signal path as data: nodes with settings and inputs, built from the Plan by one function.

A node's key is a hash of its kind, its settings and its inputs' keys, so equal work has an equal key whatever Plan it comes
from. Its reach says how many samples it must see before and after a span.
"""

import hashlib
import json
from dataclasses import dataclass
from math import ceil, log2

from arkund.core.blend.settings import OFF_DB, BusSettings, PathSettings
from arkund.core.clean import process as clean
from arkund.core.dsp import limiter
from arkund.core.kit.pieces import group_of
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.punch import process as punch
from arkund.core.render.source import Recordings, edits_key, source_settings
from arkund.core.tone import process as tone

STAGES = ("source", "gate", "tone", "shaper", "compressor")  # of a mic, in order; each but the first may be off
LEAST_REACH_S = 0.1
STEPS_PER_DOUBLING = 2  # reaches are rounded up to few sizes, so that cached spans stay useful while a setting moves
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


def build(plan: Plan, recordings: Recordings) -> dict[str, Node]:
    """Return all nodes of a Plan by name: ``path:PATH``, ``mix``, ``kit``, ``group:GROUP``, ``drum:PIECE``, ``alone:MIC``, the STAGES of
    each mic that are on as ``STAGE:MIC``, and the last of them also as ``strip:MIC``.
    """
    rate, nodes = recordings.sample_rate_hz, {}
    edits = edits_key(plan)
    for mic in plan.mics:
        _strip(nodes, plan, recordings, mic, edits)
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


def mics_of(nodes: dict[str, Node], name: str) -> set[str]:
    """Return the ids of the mics that are heard in a node."""
    inputs = nodes[name].inputs
    mine = {each[6:] for each in inputs if each.startswith("strip:")}
    return mine.union(*(mics_of(nodes, each) for each in inputs if not each.startswith("strip:")))


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


def _strip(nodes: dict[str, Node], plan: Plan, recordings: Recordings, mic: MicPlan, edits: str) -> None:
    rate = recordings.sample_rate_hz
    stages = {
        "source": (source_settings(plan, recordings, mic, edits), (0, 0)),
        "gate": (mic.gate.to_json(), clean.reach(mic.gate, rate)),
        "tone": (mic.tone.to_json(), tone.reach(mic.tone, rate)),
        "shaper": (mic.shaper.to_json(), punch.shaper_reach(mic.shaper, rate)),
        "compressor": (mic.compressor.to_json(), punch.compressor_reach(mic.compressor, rate)),
    }
    inputs: tuple[str, ...] = ()
    for stage in STAGES:
        if stage == "source" or getattr(mic, stage).on:
            name, (settings, reach) = f"{stage}:{mic.id}", stages[stage]
            nodes[name] = _node(nodes, name, stage, settings, inputs, *reach, mic, rate)
            inputs = (name,)
    nodes[f"strip:{mic.id}"] = nodes[inputs[0]]


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
    """Return a reach rounded up to the next of a geometric row of sizes; 0 stays 0."""
    if reach <= 0:
        return 0
    steps = max(ceil(STEPS_PER_DOUBLING * log2(reach / (LEAST_REACH_S * rate)) - 1e-9), 0)
    return ceil(LEAST_REACH_S * rate * 2 ** (steps / STEPS_PER_DOUBLING))


@dataclass(frozen=True, slots=True)
class Windows:
    """Where each node is rendered for a wanted span: (first sample, one after the last).

    They depend on the Plan and the span only, never on what is cached, and are the same for all mics, so that mics run side by side and a
    node's samples depend on nothing but the request.
    """

    mix: tuple[int, int]
    stages: dict[str, tuple[int, int]]

    @property
    def strips(self) -> tuple[int, int]:
        """Of what the mixes are made of."""
        return self.stages[STAGES[-1]]


def windows(plan: Plan, nodes: dict[str, Node], span: tuple[int, int], rate: int) -> Windows:
    """Return the windows for a span of the kit: every node begins as much earlier as those after it need to settle.

    The bus and the paths count also while they are off, so that switching them leaves the mics' windows alone.
    """
    before, after = _bus_reach(plan.bus.replace(limiter_on=True, compressor=plan.bus.compressor.replace(on=True)), rate)
    mix = span[0] - rounded(before, rate), span[1] + after
    paths = (getattr(plan, path).compressor.replace(on=True) for path in PATHS)
    longest = max(rounded(punch.compressor_reach(compressor, rate)[0], rate) for compressor in paths)
    window, stages = (mix[0] - longest, mix[1]), {}
    for stage in reversed(STAGES):
        stages[stage] = window
        mine = [node for node in nodes.values() if node.kind == stage]
        window = (
            window[0] - max((node.before for node in mine), default=0),
            window[1] + max((node.after for node in mine), default=0),
        )
    return Windows(mix, stages)
