"""A first balance: places from left to right, paths for the shells, and a gentle compressor over the kit."""

from collections.abc import Sequence
from dataclasses import dataclass

from arkund.core.blend.recipes import UNDER_DB, sends_of
from arkund.core.findings import Finding
from arkund.core.rig import rows, usual
from arkund.core.rig.strips import Kit, Path
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
MIX_PEAK_DB = -8.0  # of groups and mics together, before the kit's tools
KIT_PEAK_DB = -6.0
KIT_REDUCTION_DB = 3.0


def place_of(mic, side: str) -> float:
    """Return where a mic belongs between left (-1) and right (1)."""
    if side:
        return -1.0 if side == "L" else 1.0
    return PANS.get(mic.piece, 0.0)


def first_balance(plan) -> dict:
    """Return levels and places by role and piece, as changes of a Plan; paths and sends stay as they are."""
    changes = {}
    for mic in plan.mics:
        both = {other.side for other in plan.mics if other.role == mic.role and not other.mute} >= {"L", "R"}
        changes[f"mics.{mic.id}.level_db"] = LEVELS_DB.get(mic.role, 0.0)
        changes[f"mics.{mic.id}.pan"] = place_of(mic, mic.side if both else "")
    return changes


def with_paths(plan, paths: Sequence[Path]) -> dict:
    """Return paths beside those that are there, or in their place, and the shells' sends to them (toms a bit less; no sub, overheads or rooms)."""
    wanted = {path.id for path in paths}
    sends = sends_of("punch", [mic for mic in plan.mics if not mic.mute])
    changes = {"paths": [path.to_json() for path in (*(p for p in plan.paths if p.id not in wanted), *paths)]}
    for mic_id, level_db in sends.items():
        kept = [send.to_json() for send in plan.mic(mic_id).sends if send.id not in wanted]
        changes[f"mics.{mic_id}.sends"] = kept + [{"id": path.id, "level_db": level_db} for path in paths]
    return changes


@dataclass(frozen=True, slots=True)
class FirstMix:
    """What a first mix was solved for: the level of every group, and the paths."""

    groups_db: float
    paths: tuple[Path, ...]


def first_mix(plan, first: FirstMix) -> dict:
    """Return a first mix as changes of a Plan."""
    groups = {f"groups.{group.id}.level_db": first.groups_db for group in plan.groups}
    return first_balance(plan) | groups | with_paths(plan, first.paths)


def propose_mix(plan, first: FirstMix) -> Finding:
    """Return levels, places, and the paths that the shells are sent to."""
    under = UNDER_DB[plan.school]
    return Finding(
        "blend",
        "blend:mix",
        "kit",
        "First balance, PUNCH and SUSTAIN blended in low",
        "Overheads as the picture, shells at their trimmed level, rooms 9 dB under. Sends are taken before the level: kick in and"
        " snare full, toms 4 dB less; sub, overheads and rooms not. Paths are made up to the peak of what comes in; PUNCH peaks"
        f" {under['punch']:.0f} dB under the kit, SUSTAIN is {under['sustain']:.0f} LU softer. Groups {first.groups_db:+.1f} dB: without a path"
        f" the mix reaches {MIX_PEAK_DB:.0f} dBFS before the kit's tools.",
        first_mix(plan, first),
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
