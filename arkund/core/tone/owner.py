"""Who owns the low end: one strip carries it, and what only fights with it gives way."""

from collections.abc import Mapping

from arkund.core.findings import Finding
from arkund.core.plan.plan import BACKING_OWNS, Plan
from arkund.core.replace.low_end import MAIN_HZ, LowEnd
from arkund.core.rig import rows
from arkund.core.tools.tone import Band, Tone

PIECE = "kick"
NEAR_DB = 6.0  # below the owner, from where on a strip counts beside it
LEAST_GAIN_DB = 1.0  # that all of them give more than the owner alone, or they fight
GIVES_WAY = 1.6  # of the fundamental: above it another strip begins
USUAL_HZ = 55.0
UNDER_BASS_HZ = 60.0  # where the rest of the music owns it


def owner_of(plan: Plan, found: LowEnd) -> str:
    """Return the strip that owns the low end: as decided, where that is still heard, else what carries most of it."""
    decided = plan.low_owner
    return decided if decided in found.main_db or decided == BACKING_OWNS else found.strongest


def undecided(plan: Plan, found: LowEnd, names: Mapping[str, str]) -> Finding | None:
    """Return the note that asks who owns the low end; None where that is decided, or where only one strip has any."""
    if plan.low_owner or len(found.main_db) < 2:
        return None
    told = ", ".join(f"{names[key]} {db:.1f} dB" for key, db in sorted(found.main_db.items(), key=lambda row: -row[1]))
    words = f"{MAIN_HZ[0]:.0f} to {MAIN_HZ[1]:.0f} Hz at kicks: {told}; together {found.gain_db:+.1f} dB against the strongest."
    title = f"{names[found.strongest]} owns the low end"
    return Finding("tone", "tone:owner", found.strongest, title, words, {"low_owner": found.strongest})


def competing(plan: Plan, found: LowEnd, names: Mapping[str, str], fundamental_hz: float | None) -> list[Finding]:
    """Return notes on strips that compete with the owner: nearly as loud, while all together give hardly more than it alone. Each gives way by a high-pass."""
    owner, hz = owner_of(plan, found), fundamental_hz or USUAL_HZ
    if owner == BACKING_OWNS:
        mics = [mic for mic in plan.mics if mic.id in found.main_db]
        why = "The rest of the music owns the low end: the kick begins above its bass."
        title = f"above the bass, high-pass at {UNDER_BASS_HZ:.0f} Hz"
        return [_gives_way(mic, UNDER_BASS_HZ, f"{mic.name}: {title}", why) for mic in mics if not _passed(mic)]
    if found.sum_main_db - found.main_db[owner] >= LEAST_GAIN_DB:
        return []
    out = []
    for key, level in found.main_db.items():
        mic = plan.mic(key)
        if key == owner or level < found.main_db[owner] - NEAR_DB or _passed(mic):
            continue
        why = (
            f"Below {MAIN_HZ[1]:.0f} Hz it is {found.main_db[owner] - level:.1f} dB under {names[owner]}, and all together give"
            f" {found.sum_main_db - found.main_db[owner]:+.1f} dB against that alone: they fight."
        )
        title = f"{mic.name} competes with {names[owner]}: high-pass at {GIVES_WAY * hz:.0f} Hz"
        out.append(_gives_way(mic, GIVES_WAY * hz, title, why))
    return out


def turned(plan: Plan, turned_db: Mapping[str, float]) -> list[Finding]:
    """Return notes on strips that are nothing but low end and, by what their filters turn, take from the sum. turned_db : what turning each over gains"""
    out = []
    for key, gain_db in turned_db.items():
        if gain_db < LEAST_GAIN_DB:
            continue
        mic = plan.mic(key)
        why = f"Filters turn phase: flipped, {MAIN_HZ[0]:.0f} to {MAIN_HZ[1]:.0f} Hz of the kick's sum rise by {gain_db:+.1f} dB as it is heard now."
        change = {f"mics.{key}.line_up.turned": not mic.line_up.turned}
        out.append(
            Finding(
                "tone",
                f"tone:turned:{key}",
                key,
                f"{mic.name}: polarity flipped behind its filters, {gain_db:+.1f} dB at 40 to 110 Hz",
                why,
                change,
            )
        )
    return out


def _passed(mic) -> bool:
    """Say whether a strip has given way already."""
    bands = (band for tool in mic.tools if tool.kind == "tone" and tool.on for band in tool.bands)
    return any(band.on and band.kind == "high_pass" and band.frequency_hz >= USUAL_HZ for band in bands)


def _gives_way(mic, frequency_hz: float, title: str, why: str) -> Finding:
    band = Band(kind="high_pass", frequency_hz=round(frequency_hz, 1), slope_db=12)
    mine = mic.first("tone")
    kept = tuple(b for b in mine.bands if b.kind != "high_pass") if mine else ()
    tone = (mine or Tone()).replace(on=True, bands=(band, *kept))
    return Finding(
        "tone", f"tone:competes:{mic.id}", mic.id, title, why, rows.put(f"mics.{mic.id}", mic, tone), first_choice=False
    )
