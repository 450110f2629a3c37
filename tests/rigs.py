"""Rigs drawn from all that can be set: rows of tools in any order, several of a kind, groups, paths, paths into paths."""

from dataclasses import replace
from typing import Any

import numpy as np

from arkund.core.plan.plan import Capture, Cut, LineUp, MicPlan, Placement, Plan, Struck
from arkund.core.replace.sampled import Sampled, Shot
from arkund.core.rig.scenes import Held, Scene
from arkund.core.rig.strips import Group, Kit, Path, Send
from arkund.core.tools.shaper import Above
from arkund.core.tools.tone import Tone
from arkund.core.tools.tool import KINDS, Key, Tool, free_id, settings_of
from tests.random_settings import drawn, drawn_band

OFF = 0.2  # how often a tool is off


def tool_of(kind: str, rng: np.random.Generator, key: str = "") -> Tool:
    """Return a tool of a kind, drawn from the whole of its ranges; key : what it listens to, where it can."""
    on = bool(rng.random() >= OFF)
    if kind == "tone":
        bands = tuple(drawn_band(rng) for _ in range(int(rng.integers(0, 4))))
        return Tone(on=on, bands=bands, key=drawn(Key, rng, of=key))
    cls = settings_of(kind)
    if kind == "shaper":
        edges = np.geomspace(80.0, 7000.0, 8)[np.sort(rng.choice(8, int(rng.integers(0, 4)), replace=False))]
        return drawn(cls, rng, on=on, above=tuple(drawn(Above, rng, from_hz=float(hz)) for hz in edges))
    if kind == "regions":
        edges = np.cumsum(rng.integers(200, 60_000, 24)).reshape(-1, 2)
        return drawn(cls, rng, on=on, spans=tuple(map(tuple, edges.tolist())))
    if kind == "leveller":
        at = np.cumsum(rng.integers(100, 60_000, 16)).tolist()
        return drawn(cls, rng, on=on, strikes=tuple((each, float(rng.uniform(-30, 6))) for each in at))
    more = {"key": drawn(Key, rng, of=key)} if "key" in cls.__dataclass_fields__ else {}
    return drawn(cls, rng, on=on, **more)


def row_of(rng: np.random.Generator, most: int, keys: tuple[str, ...] = (), mono: bool = False) -> tuple[Tool, ...]:
    """Return a row of tools of any kinds in any order; keys : what some of them listen to; mono : of a mic, which may be cut by hits."""
    kinds = [each for each in KINDS if mono or not settings_of(each).drawn]
    out: list[Tool] = []
    for kind in rng.choice(kinds, int(rng.integers(0, most + 1))):
        key = str(rng.choice(keys)) if keys and rng.random() < 0.4 else ""
        tool = tool_of(str(kind), rng, key)
        out.append(tool.replace(id=free_id(tool.kind, {each.id for each in out})))
    return tuple(out)


def random_rig(plan: Plan, seed: int, rate: int = 48_000, most: int = 4) -> Plan:
    """Return a Plan with a rig of its own over cuts, layers and delays; every number from the whole of its range."""
    rng = np.random.default_rng(seed)
    u = lambda low, high: float(rng.uniform(low, high))
    at = int(5.0 * rate)
    capture = Capture(id="sn", piece="snare", take=plan.take, at=at, before=100, length=9000, level_db=-8.0)
    sources = (*(f"mic:{mic.id}" for mic in plan.mics), "drum:snare", "drum:kick", "hits:snare")
    groups = tuple(
        drawn(Group, rng, id=f"g{k}", name=f"Group {k}", tools=row_of(rng, 3, sources), sends=sends_of(rng, 3))
        for k in range(int(rng.integers(1, 5)))
    )
    behind = (*sources, *(f"group:{group.id}" for group in groups))
    paths = tuple(
        drawn(Path, rng, id=f"p{k}", name=f"Path {k}", tools=row_of(rng, 3, behind), sends=sends_of(rng, 3, k + 1))
        for k in range(3)
    )
    mics = tuple(
        replace(
            mic,
            trim_db=u(-12, 12),
            line_up=drawn(LineUp, rng, inverted=bool(rng.random() < 0.3)),
            tools=row_of(rng, most, sources, mono=True),
            level_db=u(-60, 12),
            pan=u(-1, 1),
            sends=sends_of(rng, 3),
            group=f"g{rng.integers(len(groups))}" if rng.random() < 0.8 else "",
        )
        for mic in plan.mics
    )
    snare = next(mic.id for mic in plan.mics if mic.piece == "snare")
    strikes = ((3 * rate, -3.0), (int(7.5 * rate), 0.0), (8 * rate, 0.0))
    sound = drawn(Sampled, rng, of=snare, shots=(Shot(capture="sn"), Shot(capture="sn", for_db=-9.0)), strikes=strikes)
    layer = MicPlan(id="inside", name="Inside", piece="snare", role="layer", sampled=sound)
    beside = drawn(LineUp, rng)
    mics += (
        layer.replace(into=snare, level_db=u(-20, 6)),
        layer.replace(id="beside", name="Beside", line_up=beside, tools=row_of(rng, 2, sources, mono=True)),
    )
    struck = tuple((k * rate, float(rng.uniform(-30, 0))) for k in range(1, 12))
    return plan.replace(
        struck=(Struck(piece="snare", strikes=struck),),
        mics=mics,
        cuts=(
            Cut(at=4 * rate, shift=int(u(-900, 900))),
            Cut(at=6 * rate, shift=int(u(-900, 900))),
            Cut(at=9 * rate, shift=0),
        ),
        captures=(capture,),
        placements=(Placement(capture="sn", at=7 * rate, length=8000),),
        groups=groups,
        paths=paths,
        kit=drawn(Kit, rng, tools=row_of(rng, 4, behind)),
    )


def random_scenes(plan: Plan, seed: int) -> Plan:
    """Return a Plan of a random rig with scenes over it: two that follow each other, one beside them that holds other settings."""
    rng = np.random.default_rng(seed)
    u = lambda low, high: float(rng.uniform(low, high))
    strips = (
        [("mics", mic) for mic in plan.standing]
        + [("groups", g) for g in plan.groups]
        + [("paths", p) for p in plan.paths]
    )
    held: list[dict[str, Any]] = [{}, {}, {}]
    for where, strip in strips:
        place, mine = f"{where}.{strip.id}", held[int(rng.integers(3))]
        if rng.random() < 0.5:
            mine[f"{place}.level_db"] = u(-30, 6)
        if rng.random() < 0.3:
            mine[f"{place}.pan"] = u(-1, 1)
        if rng.random() < 0.2:
            mine[f"{place}.mute"] = not strip.mute
        if where == "mics" and rng.random() < 0.3:
            mine[f"{place}.trim_db"] = u(-12, 12)
            mine[f"{place}.sends.p0.level_db"] = u(-40, 6)
        if strip.tools and rng.random() < 0.5:
            tool = strip.tools[int(rng.integers(len(strip.tools)))]
            mine[f"{place}.tools.{tool.id}.on"] = not tool.on
            name, limits = next(iter(type(tool).ranges().items())) if type(tool).ranges() else ("", None)
            if name and limits.step != 1:
                mine[f"{place}.tools.{tool.id}.{name}"] = u(limits.low, limits.high)
    bars = [((1, 2),), ((2, 3),), ((1, 3),)]
    scenes = tuple(
        Scene(
            id=f"s{k}",
            name=f"Scene {k}",
            bars=bars[k],
            fade_ms=float(rng.choice([1.0, 20.0, 700.0])),
            held=tuple(Held(place=place, value=value) for place, value in mine.items()),
        )
        for k, mine in enumerate(held)
    )
    return plan.replace(scenes=scenes)


def sends_of(rng: np.random.Generator, count: int, first: int = 0) -> tuple[Send, ...]:
    """Return sends to some of the paths from a number on."""
    return tuple(
        Send(id=f"p{k}", level_db=float(rng.uniform(-40, 6))) for k in range(first, count) if rng.random() < 0.4
    )


def with_tool(mic: MicPlan, kind: str, **settings) -> MicPlan:
    """Return a mic with its first tool of a kind at other settings."""
    mine = mic.first(kind) or settings_of(kind)()
    return mic.replace(tools=mic.with_tool(mine.replace(**settings)))


def struck_of(kit, pieces: tuple[str, ...] = ("snare",)) -> tuple[Struck, ...]:
    """Return the true strikes of a generated kit's snare, or of other pieces, as keys hear them."""
    rate = kit.sample_rate_hz
    return tuple(
        Struck(piece=piece, strikes=tuple((round(h.time_s * rate), h.level_db) for h in kit.hits[piece]))
        for piece in pieces
    )
