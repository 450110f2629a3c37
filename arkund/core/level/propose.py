"""Trims that bring each mic's own hits into the window, gains for sections, and what to do about clipped hits."""

import math
from collections.abc import Mapping, Sequence
from itertools import pairwise

from arkund.core.findings import Finding
from arkund.core.kit.pieces import is_close, is_tom
from arkund.core.level.measure import MicLevel, SectionLevel
from arkund.core.level.settings import Window
from arkund.core.rig.scenes import LAST_BAR, Held, Scene
from arkund.core.tools.tool import free_id

LEAVE_WITHIN_DB = 0.5
LEAST_TRIM_DB = 0.05
SECTION_DB = 3.0  # a piece this much louder or softer in a section is worth a section gain
MOST_TRIM_DB = 40.0
TRIM_FADE_MS = 60.0  # in which a section's gain comes and goes
MOST_NAMED = 3


def propose(plan, levels: Mapping[str, MicLevel], window: Window) -> list[Finding]:
    """Return a trim for each mic outside the window, and a note for each clipped one."""
    out = []
    for mic in plan.mics:
        level = levels.get(mic.id)
        if level is None or not level.hit_peaks_db:
            continue
        low, high = window.of(mic.piece, mic.role)
        now = level.typical_db + mic.trim_db
        if not low - LEAVE_WITHIN_DB <= now <= high + LEAVE_WITHIN_DB:
            trim = trim_for(level, window, mic)
            out.append(
                Finding(
                    "level",
                    f"level:trim:{mic.id}",
                    mic.id,
                    f"{mic.name}: trim {trim:+.1f} dB",
                    f"Its own hits peak at {now:.1f} dBFS (90 % stay below; {len(level.hit_peaks_db)} hits measured);"
                    f" the window is {low:.0f} to {high:.0f} dBFS.",
                    {f"mics.{mic.id}.trim_db": trim},
                    kind="Trims",
                    short=f"{mic.name} {trim:+.1f} dB",
                )
            )
        if level.clipped_at_s:
            out.append(_clipped(mic, level))
    return out


def trim_for(level: MicLevel, window: Window, mic) -> float:
    """Return the trim in dB that brings a mic's typical hit to the middle of its window."""
    low, high = window.of(mic.piece, mic.role)
    return round(min(max((low + high) / 2 - level.typical_db, -MOST_TRIM_DB), MOST_TRIM_DB), 1)


def to_middle(plan, levels: Mapping[str, MicLevel], window: Window) -> dict[str, float]:
    """Return the trims by mic that bring each to the middle of its window, of those that are not there: so that what follows does not hang on how a take was
    recorded.
    """
    measured = ((mic, levels.get(mic.id)) for mic in plan.mics)
    wanted = {mic: trim_for(level, window, mic) for mic, level in measured if level and level.hit_peaks_db}
    return {mic.id: trim for mic, trim in wanted.items() if abs(trim - mic.trim_db) >= LEAST_TRIM_DB}


def _clipped(mic, level: MicLevel) -> Finding:
    count, short = len(level.clipped_at_s), level.clipped_short
    said = (
        f"Flat tops at full scale, first at {level.clipped_at_s[0]:.3f} s. {short} of {count} are short enough (0.7 ms) to be drawn anew by the"
        " sound's own course: an estimate, nearer to what was played than the flat top but seldom its whole height. The level then rises above"
        " full scale; the trim must leave room."
    )
    if short < count:
        said += " The longer ones stay flat: prefer another take or a replaced hit there."
    return Finding(
        "level",
        f"level:clip:{mic.id}",
        mic.id,
        f"{mic.name}: clipped at {level.clipped_places} places",
        said,
        {f"mics.{mic.id}.repair": True} if short else {},
        first_choice=False,
    )


def propose_sections(plan, sections: Mapping[str, Sequence[SectionLevel]]) -> list[Finding]:
    """Return scenes that even out pieces which are louder or softer in some sections, by the trims of the piece's close mics.

    sections : levels by piece
    """
    out = []
    for piece, mine in sections.items():
        far = [s for s in mine if abs(s.against_song_db) >= SECTION_DB]
        mics = [mic for mic in plan.mics if mic.piece == piece and is_close(mic.role)]
        if not far or not mics:
            continue
        named = ", ".join(f"{s.section} {s.against_song_db:+.1f} dB" for s in far)
        out.append(
            Finding(
                "level",
                f"level:sections:{piece}",
                mics[0].id,
                f"{piece}: other level in {len(far)} section{'s' if len(far) > 1 else ''}",
                f"Against its median over the song: {named}. Scenes even that out by the trim, over {TRIM_FADE_MS:.0f} ms; the playing stays as it is.",
                {"scenes": [scene.to_json() for scene in _evened(plan, mics, far)]},
                first_choice=False,
            )
        )
    return out


def _evened(plan, mics: Sequence, far: Sequence[SectionLevel]) -> list[Scene]:
    """Return the Plan's scenes with one for each section, in which mics are trimmed by what it is louder or softer."""
    ends = {a.bar: b.bar for a, b in pairwise(plan.sections)}
    scenes = {scene.id: scene for scene in plan.scenes}
    for each in far:
        alone = sum(section.name == each.section for section in plan.sections) == 1
        where = {"sections": (each.section,)} if alone else {"bars": ((each.bar, ends.get(each.bar, LAST_BAR)),)}
        fits = (
            s for s in scenes.values() if (s.sections, s.bars) == (where.get("sections", ()), where.get("bars", ()))
        )
        scene = next(fits, None)
        if scene is None:
            key = free_id(f"level-{each.bar + 1}", set(scenes))
            scene = Scene(id=key, name=f"Level in {each.section}"[:40], fade_ms=TRIM_FADE_MS, **where)
        places = {f"mics.{mic.id}.trim_db": round(mic.trim_db - each.against_song_db, 1) for mic in mics}
        kept = [held for held in scene.held if held.place not in places]
        fresh = [Held(place=place, value=min(max(db, -MOST_TRIM_DB), MOST_TRIM_DB)) for place, db in places.items()]
        scenes[scene.id] = scene.replace(held=(*kept, *fresh))
    return list(scenes.values())


def propose_outliers(plan, found: Mapping[str, Sequence[tuple[float, float]]]) -> list[Finding]:
    """Return notes on toms whose single hits stick out; nothing is changed by them."""
    out = []
    for piece, rows in found.items():
        mic = next((m for m in plan.mics if m.piece == piece and is_close(m.role)), None)
        if not rows or mic is None or not is_tom(piece):
            continue
        named = ", ".join(f"{at:.2f} s ({over:+.0f} dB)" for at, over in sorted(rows, key=lambda r: -r[1])[:MOST_NAMED])
        out.append(
            Finding(
                "level",
                f"level:outlier:{piece}",
                mic.id,
                f"{mic.name}: {len(rows)} hit{'s stick' if len(rows) > 1 else ' sticks'} out",
                f"Above its usual hit: {named}. Listen there; level the hit or leave it as played.",
                first_choice=False,
            )
        )
    return out


def propose_kit(plan, peak_db: float, window: Window) -> list[Finding]:
    """Return a common trim where the sum of all mics passes the window's limit for the kit."""
    over = peak_db - window.kit_db
    if over <= 0.05:
        return []
    down = -math.ceil(over * 10 - 1e-6) / 10
    changes = {f"mics.{mic.id}.level_db": max(round(mic.level_db + down, 1), -60.0) for mic in plan.mics}
    return [
        Finding(
            "level",
            "level:kit",
            "",
            f"Kit sum: {down:+.1f} dB on all mics",
            f"All mics together, trimmed and lined up, peak at {peak_db:.1f} dBFS; below {window.kit_db:.0f} dBFS there is room for what follows.",
            changes,
            first_choice=False,
        )
    ]
