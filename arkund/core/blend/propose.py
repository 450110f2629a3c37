"""A first balance: places from left to right, paths for the shells, and a gentle compressor over the kit."""

from arkund.core.blend.recipes import sends_of
from arkund.core.findings import Finding
from arkund.core.rig import rows, usual
from arkund.core.rig.strips import Kit
from arkund.core.tools.compressor import Compressor

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
KIT_REDUCTION_DB = 3.0


def place_of(mic, side: str) -> float:
    """Return where a mic belongs between left (-1) and right (1)."""
    if side:
        return -1.0 if side == "L" else 1.0
    return PANS.get(mic.piece, 0.0)


def propose_mix(plan) -> Finding:
    """Return levels, places, and two paths that the shells are sent to (toms a bit less), no sub, overheads or rooms."""
    wanted = {"punch": usual.punch(level_db=-10.0), "sustain": usual.sustain(level_db=-16.0)}
    sends = sends_of("punch", plan.mics)
    changes = {"paths": [path.to_json() for path in (*(p for p in plan.paths if p.id not in wanted), *wanted.values())]}
    for mic in plan.mics:
        base = f"mics.{mic.id}"
        changes[f"{base}.level_db"] = LEVELS_DB.get(mic.role, 0.0)
        both = {other.side for other in plan.mics if other.role == mic.role and not other.mute} >= {"L", "R"}
        changes[f"{base}.pan"] = place_of(mic, mic.side if both else "")
        if mic.id in sends:
            kept = [send.to_json() for send in mic.sends if send.id not in wanted]
            changes[f"{base}.sends"] = kept + [{"id": path, "level_db": sends[mic.id]} for path in wanted]
    return Finding(
        "blend",
        "blend:mix",
        "kit",
        "First balance, PUNCH and SUSTAIN blended in low",
        "Overheads as the picture, shells at their trimmed level, rooms 9 dB under. Sends are taken before the level: kick in and"
        " snare full, toms 4 dB less; sub, overheads and rooms not.",
        changes,
    )


def kit_start(kit: Kit) -> Compressor:
    """Return the kit's compressor as it usually starts, its threshold still to be measured."""
    usually = usual.kit().first("compressor")
    mine = kit.first("compressor") or usually
    return mine.replace(on=True, ratio=usually.ratio, attack_ms=usually.attack_ms, release_ms=usually.release_ms)


def propose_kit(plan, peak_db: float, mix_peak_db: float, threshold_db: float) -> Finding:
    """Return the kit's compressor and level.

    peak_db : of the kit as it stands; mix_peak_db : of what comes into it; threshold_db : measured for KIT_REDUCTION_DB.
    """
    compressor = kit_start(plan.kit).replace(threshold_db=threshold_db)
    allowed = Kit.ranges()["level_db"]
    level = round(min(max(plan.kit.level_db + KIT_PEAK_DB - peak_db, allowed.low), allowed.high), 1)
    return Finding(
        "blend",
        "blend:kit",
        "kit",
        f"Kit: {compressor.ratio:g}:1 at {threshold_db:.1f} dB, level {level:+.1f} dB",
        f"The mix reaches {mix_peak_db:.1f} dBFS before the kit's tools; at this threshold the compressor takes {KIT_REDUCTION_DB:.0f} dB at"
        f" most (measured over the busiest part). Aims at {KIT_PEAK_DB:.0f} dBFS; a limiter stands ready at -1 dBTP and is off.",
        rows.put("kit", plan.kit, compressor) | {"kit.level_db": level},
    )


def propose_headroom(plan, peak_db: float) -> Finding | None:
    """Return another level of the kit where the whole song does not reach KIT_PEAK_DB, or passes it; None where it keeps there.

    peak_db : its true peak over the whole song
    """
    over = peak_db - KIT_PEAK_DB
    allowed = Kit.ranges()["level_db"]
    level = round(min(max(plan.kit.level_db - over, allowed.low), allowed.high), 1)
    if abs(level - plan.kit.level_db) < 0.05:
        return None
    return Finding(
        "print",
        "print:headroom",
        "kit",
        f"The kit reaches {peak_db:.1f} dBTP: its level to {level:+.1f} dB",
        f"Measured over the whole song; at {KIT_PEAK_DB:.0f} dBTP there is room for what is mixed to it and for mastering, and no more is given away.",
        {"kit.level_db": level},
    )
