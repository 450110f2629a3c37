"""Every field of the mixing half at both ends, alone and in random company: ``make extremes``. Time, memory and deviation go to docs/extremes.md.

Four mics, half a minute; each Plan is rendered as one span and as a part of a longer one, which must be the same within -90 dB (of full scale, or of the peak
where that is above).
"""

import resource
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from time import perf_counter

import numpy as np

from arkund.core.plan.plan import LineUp, MicPlan, Plan
from arkund.core.render.render import render
from arkund.core.rig.strips import Kit, Path, Send, Strip
from arkund.core.tools.tone import MOST_SHELF_Q, SHAPES, SHELVES, Band, Tone
from arkund.core.tools.tool import KINDS, Key, settings_of
from arkund.core.units import gain_to_db
from tests.kits import SmallKit, small_kit
from tests.rigs import random_rig, struck_of

KEPT = {"KD in", "SN top", "FT", "OH L"}
RATE = 48_000
PART, WIDER = (27 * RATE, 29 * RATE), (25 * RATE, 30 * RATE)


@dataclass(frozen=True)
class End:
    """A field at one of its ends: the settings that hold it, and where they go."""

    place: str
    key: str
    value: float
    settings: object


def ends() -> Iterator[End]:
    """Yield every number field at both ends."""
    for kind in KINDS:
        for key, value in _ends_of(settings_of(kind)):
            yield End(kind, key, value, settings_of(kind)(on=True, **{key: value}))
    for key, value in _ends_of(Key):
        yield End("key", key, value, settings_of("gate")(on=True, key=Key(of="hits:snare", **{key: value})))
    for shape in SHAPES:
        for key, value in _ends_of(Band):
            value = min(value, MOST_SHELF_Q) if key == "q" and shape in SHELVES else value
            band = Band(kind=shape, **({"gain_db": 6.0} | {key: value}))
            yield End(f"band {shape}", key, value, Tone(bands=(band,)))
    for cls, place in ((LineUp, "line_up"), (Strip, "mic"), (Path, "path"), (Kit, "kit")):
        more = {"id": "end", "name": "End"} if cls is Path else {}
        for key, value in _ends_of(cls):
            yield End(place, key, value, cls(**{key: value}, **more))


def _ends_of(cls) -> Iterator[tuple[str, float]]:
    for key, each in cls.ranges().items():
        yield from ((key, value) for value in (each.low, each.high))


def with_end(plan: Plan, end: End) -> Plan:
    """Return a Plan with an end put into every mic; a path's and the kit's into their own place."""
    if end.place == "path":
        mics = tuple(mic.replace(sends=(*mic.sends, Send(id="end", level_db=0.0))) for mic in plan.mics)
        return plan.replace(mics=mics, paths=(*plan.paths, end.settings))
    if end.place == "kit":
        return plan.replace(kit=plan.kit.replace(**{end.key: end.value}))

    def put(mic: MicPlan) -> MicPlan:
        if end.place == "line_up":
            return mic.replace(line_up=end.settings)
        if end.place == "mic":
            return mic.replace(**{end.key: end.value})
        return mic.replace(tools=(*mic.tools, end.settings.replace(id="end")))

    return plan.replace(mics=tuple(put(mic) for mic in plan.mics))


def measured(plan: Plan, kit: SmallKit) -> tuple[float, float, float]:
    """Return seconds for a part of two seconds, its deviation in dB and its peak in dBFS."""
    began = perf_counter()
    part = render(plan, kit, PART)
    took_s = perf_counter() - began
    wider = render(plan, kit, WIDER)[PART[0] - WIDER[0] : PART[1] - WIDER[0]]
    peak = float(np.max(np.abs(wider)))
    if not np.isfinite(part).all():
        return took_s, np.inf, np.inf
    return took_s, float(gain_to_db(np.max(np.abs(part - wider)) / max(1.0, peak))), float(gain_to_db(peak))


def run(seed: int) -> bool:
    """Print the table by place and key; return whether all of it is within its bounds."""
    drop = {m.name for m in small_kit(seed=1, style="straight", bpm=120.0, bars=1).kit.mics} - KEPT
    kit = small_kit(seed=seed, style="busy", bpm=118.0, bars=15, drop=drop)
    plain = kit.plan.replace(struck=struck_of(kit))
    measured(random_rig(kit.plan, seed), kit)  # compiled code is loaded once
    rows: dict[tuple[str, str], list] = {}
    for number, end in enumerate(ends()):
        for plan in (plain, random_rig(kit.plan, seed + number)):
            rows.setdefault((end.place, end.key), []).append((*measured(with_end(plan, end), kit), end.value))
    print(
        "| where | field | ends | most seconds | largest deviation, dB | highest peak, dBFS |\n|---|---|---|---|---|---|"
    )
    for (place, key), found in rows.items():
        took, apart, peak, values = zip(*found, strict=True)
        print(
            f"| {place} | {key} | {min(values):g}, {max(values):g} | {max(took):.2f} | {max(apart):.0f} | {max(peak):+.0f} |"
        )
    every = [row for found in rows.values() for row in found]
    worst = max(row[1] for row in every)
    memory_mb = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(
        f"\n{len(every)} Plans; slowest {max(r[0] for r in every):.2f} s for 2 s, worst {worst:.0f} dB, peak memory {memory_mb:.0f} MB"
    )
    return worst < -90


if __name__ == "__main__":
    sys.exit(0 if run(int(sys.argv[1]) if len(sys.argv) > 1 else 4300) else 1)
