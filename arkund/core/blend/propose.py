"""A first balance: places from left to right, sends of the shells, and a gentle drum bus."""

from arkund.core.blend.settings import PUNCH, SUSTAIN
from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_tom
from arkund.core.punch.settings import CompressorSettings

PANS = {
    "hihat": -0.5,
    "tom1": -0.3,
    "tom2": 0.2,
    "tom3": 0.4,
    "tom4": 0.5,
    "floor": 0.6,
    "ride": 0.5,
    "crash": -0.4,
}
LEVELS_DB = {
    "room": -9.0,
    "talkback": -60.0,
    "overhead": -4.0,
    "spot": -14.0,
    "bottom": -4.0,
    "sub": -4.0,
    "out": -2.0,
}
KIT_PEAK_DB = -6.0
BUS_REDUCTION_DB = 3.0


def place_of(mic, side: str) -> float:
    """Return where a mic belongs between left (-1) and right (1)."""
    if side:
        return -1.0 if side == "L" else 1.0
    return PANS.get(mic.piece, 0.0)


def propose_mix(plan) -> Finding:
    """Return levels, places and sends: shells to both paths (toms a bit less), no sub, overheads or rooms."""
    changes = {}
    for mic in plan.mics:
        base = f"mics.{mic.id}.mix"
        changes[f"{base}.level_db"] = LEVELS_DB.get(mic.role, 0.0)
        changes[f"{base}.pan"] = place_of(mic, mic.side)
        if (mic.piece == "kick" and mic.role == "in") or mic.piece == "snare":
            changes[f"{base}.punch_send_db"] = changes[f"{base}.sustain_send_db"] = 0.0
        elif is_tom(mic.piece):
            changes[f"{base}.punch_send_db"] = changes[f"{base}.sustain_send_db"] = -4.0
    changes["punch"] = PUNCH.replace(on=True, level_db=-10.0).to_json()
    changes["sustain"] = SUSTAIN.replace(on=True, level_db=-16.0).to_json()
    return Finding(
        "blend",
        "blend:mix",
        "kit",
        "First balance, PUNCH and SUSTAIN blended in low",
        "Overheads as the picture, shells at their trimmed level, rooms 9 dB under. Sends are taken before the level: kick in and"
        " snare full, toms 4 dB less; sub, overheads and rooms not.",
        changes,
    )


def bus_start(bus) -> CompressorSettings:
    """Return the drum bus's compressor as it usually starts, its threshold still to be measured."""
    return bus.compressor.replace(on=True, ratio=2.0, attack_ms=30.0, release_ms=120.0)


def propose_bus(plan, peak_db: float, mix_peak_db: float, threshold_db: float) -> Finding:
    """Return bus compressor and level.

    peak_db : of the kit as it stands; mix_peak_db : of what reaches the bus; threshold_db : measured for BUS_REDUCTION_DB.
    """
    compressor = bus_start(plan.bus).replace(threshold_db=threshold_db)
    level = round(min(max(plan.bus.level_db + KIT_PEAK_DB - peak_db, -24.0), 12.0), 1)
    return Finding(
        "blend",
        "blend:bus",
        "bus",
        f"Drum bus: {compressor.ratio:g}:1 at {threshold_db:.1f} dB, level {level:+.1f} dB",
        f"The kit reaches {mix_peak_db:.1f} dBFS before the bus; at this threshold the compressor takes {BUS_REDUCTION_DB:.0f} dB at"
        f" most (measured over the busiest part). Aims at {KIT_PEAK_DB:.0f} dBFS; a limiter stands ready at -1 dBTP and is off.",
        {"bus.compressor": compressor.to_json(), "bus.level_db": level},
    )


def propose_headroom(plan, peak_db: float) -> Finding | None:
    """Return a lower bus level where the whole song passes KIT_PEAK_DB, None where it keeps below."""
    over = peak_db - KIT_PEAK_DB
    if over < 0.05:
        return None
    level = round(max(plan.bus.level_db - over - 0.05, -24.0), 1)
    return Finding(
        "print",
        "print:headroom",
        "kit",
        f"The kit reaches {peak_db:.1f} dBFS: drum bus to {level:+.1f} dB",
        f"Measured over the whole song; below {KIT_PEAK_DB:.0f} dBFS there is room for what is mixed to it and for mastering.",
        {"bus.level_db": level},
    )
