"""Notes on the mix: a first balance with its paths, a gentle compressor over the kit, and the kit's level."""

from arkund.core.blend.first_mix import MIX_PEAK_DB, UNDER_DB, FirstMix
from arkund.core.blend.recipes import LEAST_PEAK_DB
from arkund.core.findings import Finding
from arkund.core.rig import rows, usual
from arkund.core.rig.strips import Kit
from arkund.core.tools.compressor import Compressor

KIT_PEAK_DB = -6.0
KIT_REDUCTION_DB = 3.0


def propose_mix(plan, first: FirstMix) -> Finding:
    """Return levels, places, and the paths that the shells are sent to."""
    return Finding(
        "blend",
        "blend:mix",
        "kit",
        "Balance: overheads as the picture, rooms 9 dB under; SUSTAIN path in low",
        "Overheads as the picture, shells at their trimmed level, rooms 9 dB under. Sends are taken before the level: kick in and"
        " snare full, toms 4 dB less; sub, overheads and rooms not. SUSTAIN is made up to the peak of what comes in, and"
        f" {UNDER_DB[plan.school]:.0f} LU softer than the kit. Groups {first.groups_db:+.1f} dB: without it"
        f" the mix reaches {MIX_PEAK_DB:.0f} dBFS before the kit's tools.",
        first.changes(plan),
    )


def kit_start(kit: Kit) -> Compressor:
    """Return the kit's compressor as it usually starts, its threshold still to be measured."""
    usually = usual.kit().first("compressor")
    mine = kit.first("compressor") or usually
    return mine.replace(on=True, ratio=usually.ratio, attack_ms=usually.attack_ms, release_ms=usually.release_ms)


def level_for(kit: Kit, peak_db: float) -> float:
    """Return the level at which a kit that reaches a peak reaches KIT_PEAK_DB; the one that it has for silence."""
    if peak_db <= LEAST_PEAK_DB:
        return kit.level_db
    limits = Kit.ranges()["level_db"]
    return round(min(max(kit.level_db + KIT_PEAK_DB - peak_db, limits.low), limits.high), 1)


def level_title(kit: Kit, peak_db: float) -> str:
    """Return what a kit's level becomes that reaches a peak, and where it peaks then."""
    level_db = level_for(kit, peak_db)
    return f"Kit level {level_db:+.1f} dB: peaks at {peak_db + level_db - kit.level_db:.1f} dBTP"


def propose_kit(plan, peak_db: float, mix_peak_db: float, threshold_db: float) -> Finding:
    """Return the kit's compressor and level.

    peak_db : of the kit as it stands; mix_peak_db : of what comes into it; threshold_db : measured for KIT_REDUCTION_DB.
    """
    compressor = kit_start(plan.kit).replace(threshold_db=threshold_db)
    level = level_for(plan.kit, peak_db)
    return Finding(
        "blend",
        "blend:kit",
        "kit",
        f"Kit: {compressor.ratio:g}:1 at {threshold_db:.1f} dB, level {level:+.1f} dB",
        f"The mix reaches {mix_peak_db:.1f} dBFS before the kit's tools; at this threshold the compressor takes {KIT_REDUCTION_DB:.0f} dB at"
        f" most (measured over the busiest part). Aims at {KIT_PEAK_DB:.0f} dBFS; a limiter stands ready at -1 dBTP and is off.",
        rows.put("kit", plan.kit, compressor) | {"kit.level_db": level},
        first_choice=False,
    )


def propose_headroom(plan, peak_db: float) -> Finding | None:
    """Return another level of the kit where the whole song does not reach KIT_PEAK_DB, or passes it; None where it keeps there.

    peak_db : its true peak over the whole song
    """
    level = level_for(plan.kit, peak_db)
    if abs(level - plan.kit.level_db) < 0.05:
        return None
    return Finding(
        "print",
        "print:headroom",
        "kit",
        level_title(plan.kit, peak_db),
        f"Measured over the whole song; at {KIT_PEAK_DB:.0f} dBTP there is room for what is mixed to it and for mastering, and no more is given away.",
        {"kit.level_db": level},
    )
