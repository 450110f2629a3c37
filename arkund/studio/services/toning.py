"""Tone as it is worked on: a peak notched where one points, an equaliser carried to other drums, and what a drum's mics together gain by all of it."""

import dataclasses
import functools

import numpy as np

from arkund.core.dsp.spectrum import axis_hz, stretches_db
from arkund.core.errors import SettingsError
from arkund.core.findings import Finding, with_minus
from arkund.core.kit.pieces import is_close
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan
from arkund.core.render.source import backing_span
from arkund.core.rig import changes, places, rows
from arkund.core.rig.changes import Change
from arkund.core.rig.hearing import audible
from arkund.core.rig.strips import OFF_DB
from arkund.core.rig.wiring import group_id
from arkund.core.tone.lifted import lifted_db
from arkund.core.tone.masking import BANDS_HZ, Fight, parting
from arkund.core.tone.masking import masking as who_is_heard
from arkund.core.tone.measure import starts_of
from arkund.core.tone.notch import HIGHEST_HZ, LOWEST_HZ, cut, peak_near
from arkund.core.tone.retune import retuned
from arkund.core.tone.split import ID as SPLIT
from arkund.core.tone.split import Part, Split, in_order, split
from arkund.core.tone.split import propose as propose_split
from arkund.core.tone.together import together
from arkund.core.tools.tone import MOST_BANDS, Band, Tone
from arkund.studio.services import carding, layering, listening
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered

SUMS = ("drum", "kit", "music")
STRUCK = ("kick", "snare")
APART = "apart"  # the equaliser by which a strip gives way
MOST_FIGHTS, QUIET = 4, 1e-5


def notch(measure: Measure, mic_id: str, frequency_hz: float, tool_id: str = "") -> Change:
    """Return the change that cuts the peak of a mic near a frequency, at its measured place and width.

    tool_id : in which of its equalisers. Raises SettingsError outside the spectrum, without hits, and where the equaliser is full.
    """
    mic = measure.plan.mic(mic_id)
    piece = mic.piece if measure.heard_hits.get(mic.piece) else "snare"
    starts = starts_of(measure.heard_hits, piece, measure.rate)
    read = functools.partial(measure.sources.read, mic)
    inside = LOWEST_HZ <= frequency_hz <= HIGHEST_HZ
    found = peak_near(read, starts, frequency_hz, measure.rate) if inside else None
    if found is None:
        no_strokes = "no strokes were found by which its spectrum could be measured"
        why = "that is outside its spectrum" if starts else no_strokes
        raise SettingsError(f"notch: at {frequency_hz:g} Hz in {mic.name}: {why}.")
    named = mic.tool(tool_id) if tool_id else None
    mine = named if isinstance(named, Tone) else mic.first("tone")
    tone, band = mine or Tone(), cut(found)
    if len(tone.bands) >= MOST_BANDS:
        raise SettingsError(f"notch: {mic.name} has {MOST_BANDS} filters already; take one out first.")
    tone = tone.replace(on=True, bands=(*tone.bands, band))
    words = f"{mic.name}: {band.frequency_hz:.0f} Hz, {found.above_db:.1f} dB over what is around it, cut by {-band.gain_db:.1f} dB, Q {band.q:g}"
    place = f"mics.{mic.id}"
    values = {f"{place}.tools.{mine.id}": tone.to_json()} if mine else rows.put(place, mic, tone)
    return Change(with_minus(words), values)


def copy_tool(measure: Measure, strip: str, tool_id: str, others: list[str]) -> Change:
    """Return the change that copies a tool to other strips; an equaliser to another drum of the same kind retuned by their measured fundamentals."""
    plan = measure.plan
    copied = changes.copy_tool(plan, strip, tool_id, others)
    mine = places.named(plan, strip)
    tool = mine.strip.tools[rows.place_of(mine.strip.tools, tool_id)]
    if not isinstance(tool, Tone) or mine.sort != "mic":
        return copied
    values, words = dict(copied.values), []
    for other in (places.named(plan, name) for name in others):
        ratio = _ratio(measure, mine.strip, other.strip) if other.sort == "mic" else None
        if ratio is not None:
            values |= rows.put(other.place, other.strip, retuned(tool, ratio))
            words.append(f"{other.words} retuned by {ratio:.2f}")
    return Change(f"{copied.title}; {', '.join(words)}" if words else copied.title, values)


def _ratio(measure: Measure, one: MicPlan, other: MicPlan) -> float | None:
    """Return how much higher another drum of the same kind is tuned; None where that is the same drum, another kind, or not known."""
    if one.piece == other.piece or _kind(one) != _kind(other):
        return None
    pitches = [measure.tone(mic).fundamental_hz for mic in (one, other)]
    return pitches[1] / pitches[0] if all(pitches) else None


def _kind(mic: MicPlan) -> str:
    return "tom" if mic.piece == "floor" or mic.piece.startswith("tom") else mic.piece


def sums(measure: Measure, mic_id: str, what: str) -> dict:
    """Return what is laid over a mic's spectrum: its drum's mics together or the kit at the drum's hits, without the step and with it; or the music's.

    what : one of SUMS. Raises SettingsError for another, and where there is no music.
    """
    if what not in SUMS:
        raise SettingsError(f"what: expected one of {', '.join(SUMS)}; got {what[:40]!r}.")
    mic, plan, span = measure.plan.mic(mic_id), measure.plan, measure.busy_span()
    axis = axis_hz(measure.rate)
    if what == "music":
        if not plan.backing.on:
            raise SettingsError("music: no backing track is loaded; Load takes one.")
        music = backing_span(plan, measure.recordings, *span).mean(axis=1)
        return {
            "axis_hz": axis.tolist(),
            "after_db": np.round(stretches_db(music, measure.rate), 2).tolist(),
            "words": "the rest of the music",
        }

    def compute() -> dict:
        piece = mic.piece if measure.heard_hits.get(mic.piece) else "snare"
        at = [h.time_s for h in carding.heard_hits(measure, span).get(piece, []) if not h.ghost]
        plain = listening.without(plan, "tone")
        outputs = [f"strip:{each.id}" for each in _of_drum(measure, mic)] if what == "drum" else ["kit"]
        both = [[_mono(rendered(p, measure.recordings, span, out)) for out in outputs] for p in (plain, plan)]
        found = together(*both, at, measure.rate)
        return {"axis_hz": axis.tolist(), **found.plain()}

    words = f"all mics of the {mic.piece}" if what == "drum" else f"the kit at strokes of the {mic.piece}"
    return measure.kept("sums", [plan.to_json(), mic.id, what, list(span)], compute) | {"words": words}


def _of_drum(measure: Measure, mic: MicPlan) -> list[MicPlan]:
    """Return the mics of a mic's drum that are heard; of an overhead and the like those of its role."""
    close = is_close(mic.role)
    return [
        each
        for each in audible(measure.plan)
        if (each.piece == mic.piece and is_close(each.role) if close else each.role == mic.role)
    ] or [mic]


def masking(measure: Measure) -> list[dict]:
    """Return who is loudest where in the kit, at kicks and at back-beats, and who fights; each fight with who gives way: the one whose drum is not struck."""
    span, plan = measure.busy_span(), measure.plan

    def compute() -> dict:
        heard = {group_id(mic, plan.groups) for mic in audible(plan)}
        names = [f"group:{group.id}" for group in plan.groups if group.id in heard]
        names += [f"path:{path.id}" for path in plan.paths if not path.mute and path.level_db > OFF_DB]
        strips = {name: rendered(plan, measure.recordings, span, name) for name in names}
        strips = {name: x for name, x in strips.items() if np.abs(x).max(initial=0.0) > QUIET}
        hits = carding.heard_hits(measure, span)
        out = {}
        for piece in STRUCK:
            found = who_is_heard(strips, [h.time_s for h in hits.get(piece, []) if not h.ghost], measure.rate)
            if found is not None:
                out[piece] = dataclasses.asdict(found)
        return out

    data = measure.kept("masking", [plan.to_json(), list(span)], compute)
    return [
        {"piece": piece, "bands_hz": list(BANDS_HZ), **found}
        | {"fights": [_fight(measure, piece, fight) for fight in found["fights"][:MOST_FIGHTS]]}
        for piece, found in data.items()
    ]


def _fight(measure: Measure, piece: str, fight: dict) -> dict:
    first, second = fight["first"], fight["second"]
    own = f"group:{piece}"
    gives_way = second if first == own else first if second == own else second
    names = {name: places.named(measure.plan, name).words for name in (first, second)}
    return fight | {"gives_way": gives_way, "words": names}


def part(measure: Measure, strip: str, from_hz: float, up_to_hz: float) -> Change:
    """Return the change by which a strip gives way between two frequencies. Raises SettingsError for what is no range, and for a full equaliser."""
    limits = Band.ranges()["frequency_hz"]
    if not limits.low <= from_hz < up_to_hz <= limits.high:
        raise SettingsError(
            f"part: {from_hz:g} to {up_to_hz:g} Hz is no range within {limits.low:g} to {limits.high:g} Hz."
        )
    mine = places.named(measure.plan, strip)
    band = parting(Fight("", "", from_hz, up_to_hz, 0.0))
    tone = mine.strip.tool(APART) or Tone(id=APART)
    if len(tone.bands) >= MOST_BANDS:
        raise SettingsError(f"part: {mine.words} has {MOST_BANDS} filters there already; take one out first.")
    row = rows.with_own_id(mine.strip.tools, tone.replace(on=True, bands=(*tone.bands, band)))
    words = f"{mine.words} gives way: {band.gain_db:g} dB at {band.frequency_hz:.0f} Hz"
    return Change(with_minus(words), {f"{mine.place}.tools": [tool.to_json() for tool in row]})


def split_note(measure: Measure, piece: str = "kick") -> Finding | None:
    """Return the note that lets the mics of a kick share its range, measured on what is rendered; None with fewer than two, or where its low end would fall."""
    plan = measure.plan
    mics = {mic.id: mic for mic in in_order([m for m in audible(plan) if m.piece == piece and not m.is_layer])}
    if len(mics) < 2:
        return None
    bare = plan
    for mic in mics.values():
        bare = places.with_strip(bare, mic.id, tools=tuple(tool for tool in mic.tools if tool.id != SPLIT))

    def compute() -> dict:
        strips, hits_s = layering.heard(measure.at(bare), piece)
        found = split({key: strips[key] for key in mics if key in strips}, hits_s, measure.rate)
        if found is None:
            return {}
        limits = MicPlan.ranges()["level_db"]
        levels = {
            p.mic: round(float(np.clip(mics[p.mic].level_db + p.gain_db, limits.low, limits.high)), 1)
            for p in found.parts
        }
        after = change.put(plan, dict(propose_split(found, mics, levels, 0.0).changes))
        both = [layering.carried(measure.at(each), piece) for each in (bare, after)]
        changed = both[1].sum_main_db - both[0].sum_main_db if all(both) else 0.0
        return {"split": dataclasses.asdict(found), "levels": levels, "changed": float(changed)}

    data = measure.kept("split", [bare.to_json(), piece], compute)
    if not data or data["changed"] < 0.0:
        return None
    parts = tuple(Part(**each) for each in data["split"]["parts"])
    found = Split(parts, data["split"]["main_change_db"], data["split"]["apart_db"])
    return propose_split(found, mics, data["levels"], data["changed"])


def _mono(audio: np.ndarray) -> np.ndarray:
    return audio if audio.ndim == 1 else audio.mean(axis=1)


def boosts(measure: Measure) -> list[dict]:
    """Return which strips are lifted where ears tire first, and by how much, in dB."""
    found = ((each.words, lifted_db(each.strip.tools)) for each in places.all_of(measure.plan))
    return [{"name": words, "db": db} for words, db in found if db]


def report(measure: Measure, mic: MicPlan) -> dict:
    """Return what was measured of a mic's tone, with words."""
    found = measure.tone(mic)
    told = []
    if found.fundamental_hz:
        told.append(f"fundamental {found.fundamental_hz:.1f} Hz")
    if found.ring:
        told.append(f"ring {found.ring.frequency_hz:.1f} Hz, {found.ring.above_db:+.0f} dB, {found.ring.decay_s:.2f} s")
    if found.box:
        told.append(f"box {found.box.frequency_hz:.0f} Hz {found.box.above_db:+.1f} dB")
    told += [f"{each.piece} {each.against_own_db:+.0f} dB at {each.frequency_hz:.0f} Hz" for each in found.bleed[:3]]
    return {
        "mic": mic.id,
        "name": mic.name,
        "words": "; ".join(told) or "nothing stands out",
        "fundamental_hz": found.fundamental_hz,
        "ring": dataclasses.asdict(found.ring) if found.ring else None,
        "box": dataclasses.asdict(found.box) if found.box else None,
        "bleed": [dataclasses.asdict(each) for each in found.bleed],
    }
