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

from arkund.core.blend.settings import BusSettings, MixSettings, PathSettings
from arkund.core.clean.settings import GateSettings
from arkund.core.plan.plan import LineUp, MicPlan, Plan
from arkund.core.punch.settings import CompressorSettings, ShaperSettings
from arkund.core.render.render import render
from arkund.core.tone.settings import KINDS, MOST_SHELF_Q, SHELVES, Band, ToneSettings
from arkund.core.units import gain_to_db
from tests.kits import SmallKit, small_kit
from tests.random_settings import drawn, drawn_band

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
    on = {GateSettings: "gate", ShaperSettings: "shaper", CompressorSettings: "compressor"}
    for cls, place in (
        *on.items(),
        (LineUp, "line_up"),
        (MixSettings, "mix"),
        (PathSettings, "path"),
        (BusSettings, "bus"),
    ):
        for key, each in cls.ranges().items():
            for value in (each.low, each.high):
                more = (
                    {"limiter_on": True}
                    if cls is BusSettings
                    else {"on": True}
                    if cls not in (LineUp, MixSettings)
                    else {}
                )
                yield End(place, key, value, cls(**{key: value}, **more))
    for kind in KINDS:
        for key, each in Band.ranges().items():
            for value in (each.low, MOST_SHELF_Q if key == "q" and kind in SHELVES else each.high):
                yield End(f"band {kind}", key, value, Band(kind=kind, **({"gain_db": 6.0} | {key: value})))


def with_end(plan: Plan, end: End) -> Plan:
    """Return a Plan with an end put into every mic, or into path and bus."""
    if end.place == "path":
        return plan.replace(punch=end.settings)
    if end.place == "bus":
        return plan.replace(bus=end.settings)

    def put(mic: MicPlan) -> MicPlan:
        if end.place.startswith("band"):
            return mic.replace(tone=ToneSettings(bands=(*mic.tone.bands, end.settings)))
        return mic.replace(**{end.place: end.settings})

    return plan.replace(mics=tuple(put(mic) for mic in plan.mics))


def company(plan: Plan, seed: int) -> Plan:
    """Return a Plan with everything drawn from its range."""
    rng = np.random.default_rng(seed)
    mics = tuple(
        mic.replace(
            gate=drawn(GateSettings, rng, on=True),
            tone=ToneSettings(bands=tuple(drawn_band(rng) for _ in range(2))),
            shaper=drawn(ShaperSettings, rng, on=True),
            compressor=drawn(CompressorSettings, rng, on=True),
            mix=drawn(MixSettings, rng),
        )
        for mic in plan.mics
    )
    path = drawn(PathSettings, rng, on=True, compressor=drawn(CompressorSettings, rng, on=True))
    return plan.replace(mics=mics, punch=path, bus=drawn(BusSettings, rng, limiter_on=True))


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
    measured(company(kit.plan, seed), kit)  # compiled code is loaded once
    rows: dict[tuple[str, str], list] = {}
    for number, end in enumerate(ends()):
        for plan in (kit.plan, company(kit.plan, seed + number)):
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
