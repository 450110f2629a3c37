"""A gate's first threshold: between the softest own and the loudest foreign hit, with the margin said."""

from arkund.core.clean.measure import Separation
from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_tom
from arkund.core.rig import rows
from arkund.core.tools.gate import Gate
from arkund.core.tools.tool import Key

SAFE_MARGIN_DB = 6.0
THRESHOLD_SHARE = 0.5  # where between the loudest other (0) and the softest own hit (1)


def start_settings(mic) -> Gate:
    """Return where a gate for this mic usually starts: key band, hold, release and range by piece and role."""
    base = Gate(on=True, hysteresis_db=4.0, attack_ms=0.1, lookahead_ms=1.5)
    if is_tom(mic.piece):
        return base.replace(hold_ms=120.0, release_ms=220.0, range_db=20.0, key=Key(low_hz=70.0, high_hz=4000.0))
    if mic.piece == "kick":
        return base.replace(hold_ms=60.0, release_ms=120.0, range_db=16.0, key=Key(high_hz=6000.0))
    if mic.role == "bottom":
        return base.replace(hold_ms=60.0, release_ms=120.0, range_db=10.0, key=Key(low_hz=2500.0))
    return base.replace(hold_ms=50.0, release_ms=140.0, range_db=12.0, key=Key(low_hz=120.0, high_hz=9000.0))


def wants_gate(mic) -> bool:
    """Say whether a gate is tried on this mic at first choice: shells yes; cymbals, overheads and rooms live from the kit."""
    return mic.piece in ("kick", "snare") or is_tom(mic.piece)


def propose(mic, start: Gate, measured: Separation) -> Finding | None:
    """Return the gate for one mic, or the advice to leave it where a threshold cannot tell."""
    if not measured.own_db:
        return None
    low, high = measured.loudest_other_db, measured.softest_own_db
    margin = measured.margin_db
    evidence = (
        f"Softest own hit {high:.1f} dBFS, loudest bleed {low:.1f} dBFS in the key"
        f" ({len(measured.own_db)} own hits): margin {margin:.1f} dB."
    )
    if margin < SAFE_MARGIN_DB:
        return Finding(
            "clean",
            f"clean:thin:{mic.id}",
            mic.id,
            f"{mic.name}: a threshold cannot tell",
            evidence + " A gate would lose soft hits or open for others; left open.",
            first_choice=False,
        )
    threshold = round(low + THRESHOLD_SHARE * margin, 1)
    threshold = min(max(threshold, high - 14.0), 0.0)
    gate = start.replace(threshold_db=round(max(threshold, -90.0), 1))
    return Finding(
        "clean",
        f"clean:gate:{mic.id}",
        mic.id,
        f"{mic.name}: gate at {gate.threshold_db:.1f} dB, down {gate.range_db:.0f} dB",
        evidence + f" Safe by {high - gate.threshold_db:.1f} dB above and {gate.threshold_db - low:.1f} dB below.",
        rows.put(f"mics.{mic.id}", mic, gate),
    )
