"""The signal path as data: nodes with settings and inputs, built from the Plan by one function.

A node's key is a hash of its kind, its settings and its inputs' keys, so equal work has an equal key whatever Plan it comes
from. Its reach says how many samples it must see before and after a span.
"""

import hashlib
import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from math import ceil, log2

from arkund.core.blend.settings import OFF_DB, BusSettings, PathSettings
from arkund.core.clean import process as clean
from arkund.core.dsp import limiter
from arkund.core.dsp.bank import BLOCK
from arkund.core.dsp.reach import NOTHING, Reach, widest
from arkund.core.kit.pieces import group_of
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.punch import process as punch
from arkund.core.render.source import Recordings, edits_key, source_settings
from arkund.core.tone import process as tone

STAGES = ("source", "gate", "tone", "shaper", "compressor")  # of a mic, in order; each but the first may be off
STAGE_REACH = {
    "gate": clean.reach,
    "tone": tone.reach,
    "shaper": punch.shaper_reach,
    "compressor": punch.compressor_reach,
}
LEAST_REACH_S = 0.1
STEPS_PER_DOUBLING = 4  # reaches are rounded up to few sizes, so that cached spans stay useful while a setting moves
# A span is cut into so many parts, no shorter than this, in each of which the mics are rendered at the same time.
MOST_PARTS, SHORTEST_PART_S = 4, 2.0
PATHS = ("punch", "sustain")


@dataclass(frozen=True, slots=True)
class Node:
    """One operation: ``inputs`` are names of other nodes, ``key`` its content hash."""

    name: str
    kind: str
    key: str
    inputs: tuple[str, ...]
    reach: Reach
    settings: object = None


def build(plan: Plan, recordings: Recordings, wanted: str = "") -> dict[str, Node]:
    """Return all nodes of a Plan by name: ``path:PATH``, ``mix``, ``kit``, ``group:GROUP``, ``drum:PIECE``, ``alone:MIC``, the STAGES of
    each mic that are on as ``STAGE:MIC``, and the last of them also as ``strip:MIC``.

    Where only one node is wanted, of the groups, drums and mics alone only that one is among them.
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
        content = {"path": settings.to_json(), "sends": [[send_db(mic, path), mic.mix.pan] for mic in sent]}
        reach = punch.compressor_reach(settings.compressor, rate)
        nodes[f"path:{path}"] = _node(nodes, f"path:{path}", "path", content, inputs, reach, path, rate)
    paths = tuple(f"path:{path}" for path in PATHS if getattr(plan, path).on)
    nodes["mix"] = _sum(nodes, "mix", heard, paths, rate)
    nodes["kit"] = _node(nodes, "kit", "bus", plan.bus.to_json(), ("mix",), _bus_reach(plan.bus, rate), plan.bus, rate)
    for name, members in _gatherings(plan).items():
        if wanted in ("", name):
            nodes[name] = _sum(nodes, name, members, (), rate)
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
    name = f"source:{mic.id}"
    nodes[name] = _node(nodes, name, "source", source_settings(plan, recordings, mic, edits), (), NOTHING, mic, rate)
    for stage in STAGES[1:]:
        settings = getattr(mic, stage)
        if settings.on:
            key, reach = _stage(stage, settings, nodes[name].key, rate)
            before, name = name, f"{stage}:{mic.id}"
            nodes[name] = Node(name, stage, key, (before,), reach, mic)
    nodes[f"strip:{mic.id}"] = nodes[name]


@lru_cache(maxsize=4096)
def _stage(stage: str, settings, source: str, rate: int) -> tuple[str, Reach]:
    """Return a stage's key and what it must hear. Remembered, because a change leaves nearly all of them as they were."""
    return _key(stage, settings.to_json(), [source], rate), STAGE_REACH[stage](settings, rate)


def _sum(nodes: dict[str, Node], name: str, mics: Sequence[MicPlan], paths: tuple[str, ...], rate: int) -> Node:
    places = [[mic.mix.level_db, mic.mix.pan] for mic in mics]
    inputs = tuple(f"strip:{mic.id}" for mic in mics) + paths
    return _node(nodes, name, "sum", {"places": places}, inputs, NOTHING, mics, rate)


def _bus_reach(bus: BusSettings, rate: int) -> Reach:
    reach = punch.compressor_reach(bus.compressor, rate)
    return reach + limiter.reach(bus.limiter_release_ms, rate) if bus.limiter_on else reach


def _node(nodes, name, kind, settings, inputs, reach, payload, rate) -> Node:
    key = _key(kind, settings, [nodes[each].key for each in inputs], rate)
    return Node(name, kind, key, inputs, reach, payload)


def _key(kind: str, settings: dict, inputs: list[str], rate: int) -> str:
    content = {"kind": kind, "settings": settings, "inputs": inputs, "rate": rate}
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()


def rounded(reach: int, rate: int) -> int:
    """Return a reach rounded up to the next of a geometric row of sizes, of whole blocks; 0 stays 0."""
    if reach <= 0:
        return 0
    steps = max(ceil(STEPS_PER_DOUBLING * log2(reach / (LEAST_REACH_S * rate)) - 1e-9), 0)
    return ceil(LEAST_REACH_S * rate * 2 ** (steps / STEPS_PER_DOUBLING) / BLOCK) * BLOCK


@dataclass(frozen=True, slots=True)
class Windows:
    """Where each node is rendered for a wanted span: (first sample, one after the last).

    They depend on the Plan and the span only, never on what is cached, so that a node's samples depend on nothing but the request. Mics are
    rendered in parts of equal length, which need not wait for each other; a mic's windows depend on no other mic's settings.
    """

    mix: tuple[int, int]
    paths: tuple[int, int]
    parts: tuple[tuple[int, int], ...]  # of the finished strips, one after the other
    beyond: dict[str, dict[str, tuple[int, int]]]  # by mic and stage: samples before and after a part
    upstream: dict[
        str, dict[str, str]
    ]  # likewise: from how far before a part all down to there was rendered, on which its samples depend

    def stage(self, mic_id: str, stage: str, part: int) -> tuple[int, int]:
        """Return where a stage of a mic is rendered for a part of the strips."""
        (start, stop), (before, after) = self.parts[part], self.beyond[mic_id][stage]
        return start - before, stop + after

    def content(self, mic_ids: Iterable[str]) -> str:
        """Return what the samples of a sum of mics depend on."""
        leads = ";".join(self.upstream[mic_id][STAGES[-1]] for mic_id in sorted(mic_ids))
        return f"{leads};{self.mix};{self.paths};{self.parts[0]};{len(self.parts)}"


def windows(
    plan: Plan, nodes: dict[str, Node], span: tuple[int, int], rate: int, within: tuple[int, int] | None = None
) -> Windows:
    """Return the windows for a span of the kit: every node begins as much earlier as it and those after it need to settle.

    The bus and the paths count also while they are off, so that switching them leaves the mics' windows alone. ``within``: a span around this one, for
    which the mics are rendered.
    """
    behind = _bus_reach(plan.bus.replace(limiter_on=True, compressor=plan.bus.compressor.replace(on=True)), rate)
    whole, stop = within or span, span[1] + behind.after
    mix_lead = rounded(behind.before, rate)
    compressors = (getattr(plan, path).compressor.replace(on=True) for path in PATHS)
    lead = rounded((widest(punch.compressor_reach(each, rate) for each in compressors) + behind).before, rate)
    first = whole[0] - lead
    beyond = {mic.id: _beyond(nodes, mic.id, rate) for mic in plan.mics}
    return Windows(
        (max(span[0] - mix_lead, first), stop),
        (max(span[0] - lead, first), stop),
        _parts((first, whole[1] + behind.after), rate),
        beyond,
        {mic_id: _upstream(stages) for mic_id, stages in beyond.items()},
    )


def _beyond(nodes: dict[str, Node], mic_id: str, rate: int) -> dict[str, tuple[int, int]]:
    found = (nodes.get(f"{stage}:{mic_id}") for stage in STAGES)
    return _leads(tuple(node.reach if node else None for node in found), rate)


@lru_cache(maxsize=1024)
def _leads(reaches: tuple[Reach | None, ...], rate: int) -> dict[str, tuple[int, int]]:
    """Return how far beyond a part each stage is rendered, by the reach of those that are on."""
    out, behind = {}, NOTHING
    for stage, reach in zip(reversed(STAGES), reversed(reaches), strict=True):
        out[stage] = rounded(behind.before, rate), behind.after
        if reach is not None:
            behind = reach + behind
    return out


def _upstream(beyond: dict[str, tuple[int, int]]) -> dict[str, str]:
    leads = [str(beyond[stage][0]) for stage in STAGES]
    return {stage: ",".join(leads[: number + 1]) for number, stage in enumerate(STAGES)}


def _parts(window: tuple[int, int], rate: int) -> tuple[tuple[int, int], ...]:
    """Return a window in parts of equal length, of which the last may end a little later."""
    length = window[1] - window[0]
    count = max(min(int(length / (SHORTEST_PART_S * rate)), MOST_PARTS), 1)
    each = -(-length // count)
    return tuple((window[0] + k * each, window[0] + (k + 1) * each) for k in range(count))
