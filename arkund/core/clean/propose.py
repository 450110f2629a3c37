"""What is done about the bleed in a mic: a gate where a threshold can tell, a cut by hits where only the other mics can, or nothing."""

from collections.abc import Sequence
from typing import Any

import numpy as np

from arkund.core.clean import regions as cutting
from arkund.core.clean.measure import Separation
from arkund.core.clean.ring import HOP_S, Ringing, heard_for
from arkund.core.clean.settings import DEPTH, FOLLOWED_DB, cleans, down_db, usual_down_db
from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_tom
from arkund.core.rig import rows
from arkund.core.tools.gate import Gate
from arkund.core.tools.regions import Regions
from arkund.core.tools.tool import Key

SAFE_MARGIN_DB = 6.0
THRESHOLD_SHARE = 0.5  # where between the loudest other (0) and the softest own hit (1)
ROLL_GAP_S, ROLL_STROKES = 0.13, 4
GENTLE_ATTACK_MS, GENTLE_DB = 1.0, 10.0
LEAST_HOLD_MS, RELEASES_MS = 20.0, (60.0, 1000.0)
FADES_MS = (80.0, 600.0)
WELL_FOUND = ("kick",)  # whose hits are hardly ever missed; a missed ghost of a snare would be turned down


def start_settings(mic) -> Gate:
    """Return where a gate for this mic usually starts: key band, hold, release and range by piece and role."""
    base = Gate(
        on=True, range_db=usual_down_db(mic.piece, mic.role), hysteresis_db=4.0, attack_ms=0.1, lookahead_ms=1.5
    )
    if is_tom(mic.piece):
        return base.replace(hold_ms=120.0, release_ms=220.0, key=Key(low_hz=70.0, high_hz=4000.0))
    if mic.piece == "kick":
        return base.replace(hold_ms=60.0, release_ms=120.0, key=Key(high_hz=6000.0))
    if mic.role == "bottom":
        return base.replace(hold_ms=60.0, release_ms=120.0, key=Key(low_hz=2500.0))
    return base.replace(hold_ms=50.0, release_ms=140.0, key=Key(low_hz=120.0, high_hz=9000.0))


def rolls(times_s: Sequence[float]) -> int:
    """Return in how many rolls a drum is played: ROLL_STROKES and more that follow each other within ROLL_GAP_S."""
    quick, count, run = np.diff(np.sort(np.asarray(times_s, float))) < ROLL_GAP_S, 0, 0
    for each in [*quick.tolist(), False]:
        count += not each and run >= ROLL_STROKES - 1
        run = run + 1 if each else 0
    return count


def gentler(gate: Gate) -> Gate:
    """Return a gate that a roll or soft playing passes whole: slower, held for longer, and not so far down."""
    return gate.replace(
        attack_ms=max(gate.attack_ms, GENTLE_ATTACK_MS),
        lookahead_ms=max(gate.lookahead_ms, 2.0 * GENTLE_ATTACK_MS),
        hold_ms=min(gate.hold_ms + 1000.0 * ROLL_GAP_S, Gate.ranges()["hold_ms"].high),
        release_ms=min(1.6 * gate.release_ms, Gate.ranges()["release_ms"].high),
        range_db=min(gate.range_db, GENTLE_DB),
    )


def after_ring(gate: Gate, measured: Separation, ringing: Ringing, followed_db: float) -> Gate:
    """Return a gate that stays open while its drum is usually heard, and then closes no faster than the drum itself falls."""
    heard = heard_for(ringing, followed_db)
    if heard is None:
        return gate
    until_s, fallen_db = heard
    closes_db = gate.threshold_db - gate.hysteresis_db - float(np.median(measured.own_db))
    below = np.flatnonzero(np.asarray(ringing.fall_db) < closes_db)
    falls_s = HOP_S * below[0] if below.size else until_s
    hold_ms = max(1000.0 * (until_s - falls_s), LEAST_HOLD_MS)
    return gate.replace(
        hold_ms=_rounded(hold_ms, LEAST_HOLD_MS, Gate.ranges()["hold_ms"].high),
        release_ms=_rounded(1000.0 * gate.range_db * until_s / fallen_db, *RELEASES_MS),
    )


def _rounded(ms: float, low: float, high: float) -> float:
    return min(max(5.0 * round(ms / 5.0), low), high)


def gate_for(
    start: Gate, measured: Separation, ringing: Ringing, look: str, mic, followed_db: float = FOLLOWED_DB
) -> Gate:
    """Return a gate with its threshold between the loudest of others and the softest own hit, at most 14 dB below that one, that stays open while the drum
    rings; a gentler one where it rolls.
    """
    low, high = measured.loudest_other_db, measured.softest_own_db
    threshold = max(low + THRESHOLD_SHARE * measured.margin_db, high - 14.0)
    gate = start.replace(
        on=True,
        threshold_db=round(min(max(threshold, -90.0), 0.0), 1),
        range_db=down_db(look, mic.piece, mic.role) or start.range_db,
    )
    if measured.own_db:
        gate = after_ring(gate, measured, ringing, followed_db)
    return gentler(gate) if rolls(measured.own_s) else gate


def regions_for(
    mic, ringing: Ringing, times_s, look: str, sample_rate_hz: int, followed_db: float = FOLLOWED_DB
) -> Regions:
    """Return the cut by hits: what stands in the mic's row, with new regions, or the usual one, that goes down as fast as the drum itself falls."""
    start = mic.first("regions")
    if start is None:
        start = Regions(down_db=down_db(look, mic.piece, mic.role) or usual_down_db(mic.piece, mic.role))
        if heard := heard_for(ringing, followed_db):
            start = start.replace(fade_out_ms=_rounded(1000.0 * start.down_db * heard[0] / heard[1], *FADES_MS))
    return start.replace(on=True, spans=cutting.spans(times_s, ringing, start, sample_rate_hz))


def way_of(mic) -> str:
    """Return in which of the WAYS a mic is cleaned as it stands: cut where both are on, because what is cut is not heard again."""
    on = {tool.kind for tool in mic.tools if cleans(tool)}
    return "cut" if "regions" in on else "gate" if "gate" in on else "leave"


def deeper(mic, down: float) -> dict[str, Any]:
    """Return the changes by which what cleans a mic goes so far down, in dB; its regions and threshold stay."""
    return {f"mics.{mic.id}.tools.{tool.id}.{DEPTH[tool.kind]}": down for tool in mic.tools if cleans(tool)}


def change(mic, way: str, gate: Gate, cut: Regions) -> dict[str, Any]:
    """Return the changes by which a mic is cleaned in one of the WAYS: what does the other work is switched off."""
    place = f"mics.{mic.id}"
    tools = {"gate": (gate,), "cut": (cut,), "leave": ()}[way]
    done = {tool.kind for tool in tools}
    off = [mine.replace(on=False) for kind in DEPTH if kind not in done and (mine := mic.first(kind))]
    return rows.put_all(place, mic, *tools, *off) if tools or off else {}


def propose(mic, gate: Gate, cut: Regions, measured: Separation, look: str, heard_as: str = "") -> Finding | None:
    """Return what is best done about the bleed in one mic; None where nothing is played on its drum, and where nothing is to be done.

    gate, cut : each as it would be set; heard_as : the kind of mic that it sounds like, where that is of another drum
    """
    down = down_db(look, mic.piece, mic.role)
    if not measured.own_db or not down:
        return None
    low, high, margin = measured.loudest_other_db, measured.softest_own_db, measured.margin_db
    evidence = (
        f"Softest own hit {high:.1f} dBFS, loudest bleed {low:.1f} dBFS in the key"
        f" ({len(measured.own_db)} own hits): margin {margin:.1f} dB."
    )
    if margin >= SAFE_MARGIN_DB:
        title = f"{mic.name}: gate at {gate.threshold_db:.1f} dB, down {gate.range_db:.0f} dB"
        if played := rolls(measured.own_s):
            evidence += f" It rolls {played} times: a slower gate, held for longer and {gate.range_db:.0f} dB deep, which leaves rolls whole."
        evidence += f" Safe by {high - gate.threshold_db:.1f} dB above and {gate.threshold_db - low:.1f} dB below."
        changes = change(mic, "gate", gate, cut)
        return Finding(
            "clean", f"clean:gate:{mic.id}", mic.id, title, evidence, changes, first_choice=is_tom(mic.piece)
        )
    sure = is_tom(mic.piece) and not heard_as
    count = f"{len(cut.spans)} region{'s' if len(cut.spans) != 1 else ''}"
    title = f"{mic.name}: cut by hits, {count}, down {cut.down_db:.0f} dB between"
    evidence += " A threshold cannot tell them apart; what the other mics hear can: each region goes from a hit to the end of its ring."
    if heard_as:
        evidence += f" But it sounds like {heard_as}: see on Load what it is, before what it hears is cut by another drum's hits."
    elif mic.piece not in WELL_FOUND and not is_tom(mic.piece):
        evidence += (
            " Softly played ghosts that were not found would be turned down with the bleed, so this waits for your ear."
        )
    return Finding(
        "clean", f"clean:cut:{mic.id}", mic.id, title, evidence, change(mic, "cut", gate, cut), first_choice=sure
    )
