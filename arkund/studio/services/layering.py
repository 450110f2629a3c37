"""Layers as Moves: made sounds and hits of the shelf, laid under a drum with what is measured of it, and what they do to it."""

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.hits.resolve import against_usual, usual_level_db
from arkund.core.kit.pieces import is_close, timing_mic
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.render.source import raw, shelf_sounds
from arkund.core.replace import layers as laying
from arkund.core.replace.landing import landed
from arkund.core.replace.low_end import LowEnd, low_end, main_hz
from arkund.core.replace.low_end import turned_over_db as low_end_turned_over_db
from arkund.core.replace.made import SORTS
from arkund.core.replace.notes import in_key, name_of
from arkund.core.replace.shelf import shots_of
from arkund.core.replace.ways import WAYS, WEIGHT, tool_id, tools_of, with_way, without_way
from arkund.core.rig import changes
from arkund.core.rig.changes import Change
from arkund.core.tools.tool import free_id
from arkund.studio.services import rigging
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered

Heard = tuple[dict[str, np.ndarray], list[float]]  # strips by id, and the drum's hits in s from their start


def layers(measure: Measure, piece: str | None = None) -> list[MicPlan]:
    """Return the layers of a piece, or all."""
    return [mic for mic in measure.plan.mics if mic.is_layer and piece in (None, mic.piece)]


def add(measure: Measure, piece: str, sort: str, frequency_hz: float | None = None) -> Change:
    """Lay a made sound under a drum: at its note, in the polarity in which the sum is larger, a little under what carries the low end.

    frequency_hz : where none is given an octave below the drum's measured fundamental, or that itself; of a song whose key is told its nearest note.
    Raises SettingsError for an unknown sort, and without hits.
    """
    if sort not in SORTS:
        raise SettingsError(f"sort: expected one of {', '.join(SORTS)}; got {sort!r}.")
    plan, mic = measure.plan, timing_mic(measure.plan.mics, piece)
    if mic is None or not measure.hits.get(piece):
        raise SettingsError(f"layer: no hits of {piece!r} were found, which could open a {sort}.")
    hz = frequency_hz or in_key(laying.note_hz(measure.tone(mic).fundamental_hz), plan.key)
    layer_id = free_id(f"{piece}-{sort}", {each.id for each in plan.mics})
    layer = laying.laid(layer_id, mic, sort, hz, against_usual(measure.hits[piece], measure.rate))
    strips, hits_s = heard(measure.at(plan.replace(mics=(*plan.mics, layer))), piece)
    layer = laying.fitted(layer, strips.pop(layer.id), strips, hits_s, measure.rate)
    values = {"mics": [each.to_json() for each in (*plan.mics, layer)]}
    return Change(f"A {sort} at {hz:.1f} Hz ({name_of(hz)[0]}) under {len(layer.strikes)} hits of {piece}", values)


def add_hits(measure: Measure, piece: str, captures: list[str], into: bool = False) -> Change:
    """Lay hits of the shelf under a drum: strikes open the one for their strength, in the polarity in which the sum is larger in the drum's main band.

    captures : their ids; none = all that the shelf has of the drum. into : through the tools of the drum's first mic, else a strip of its own. Raises
    SettingsError without hits on the shelf, or of the drum.
    """
    plan, mic, hits = measure.plan, timing_mic(measure.plan.mics, piece), measure.hits.get(piece, [])
    if mic is None or not hits:
        raise SettingsError(f"layer: no hits of {piece!r} were found, which could open others.")
    known = {c.id: c for c in plan.captures if c.piece == piece} if not captures else {c.id: c for c in plan.captures}
    if missing := [each for each in captures if each not in known]:
        raise SettingsError(f"layer: the shelf has no hit {missing[0]!r}.")
    chosen = [known[each] for each in captures or known]
    if not chosen:
        raise SettingsError(f"layer: the shelf has no hits of {piece}; keep some of this song or load files first.")
    strikes, late_samples = landed(
        raw(plan, measure.recordings, mic.id),
        hits,
        shelf_sounds(plan, measure.recordings, mic, chosen),
        measure.rate,
    )
    levels = [h.level_db for h in hits]
    layer_id = free_id(f"{piece}-hits", {each.id for each in plan.mics})
    layer = laying.laid_hits(layer_id, mic, shots_of(chosen, usual_level_db(hits), levels, late_samples), strikes)
    strips, hits_s = heard(measure.at(plan.replace(mics=(*plan.mics, layer))), piece)
    layer = laying.fitted(layer, strips.pop(layer.id), strips, hits_s, measure.rate)
    where = ""
    if into:
        layer, where = laying.going_into(layer, mic), f" through {mic.name}"
    values = {"mics": [each.to_json() for each in (*plan.mics, layer)]}
    return Change(f"{len(chosen)} hits of the shelf under {len(strikes)} of {piece}{where}", values)


def through(measure: Measure, layer_id: str, mic_id: str) -> Change:
    """Let a layer go through the tools of a mic, with "" as a strip of its own; as loud, and in the same polarity, as before."""
    layer, plan = _layer(measure, layer_id), measure.plan
    now = laying.coming_out(layer, plan.mic(layer.into)) if layer.into else layer
    if mic_id:
        now = laying.going_into(now, plan.mic(mic_id))
    words = f"through {plan.mic(mic_id).name}" if mic_id else "a strip of its own"
    rows = [(now if each.id == layer.id else each).to_json() for each in plan.mics]
    return Change(f"{layer.name}: {words}", {"mics": rows})


def remove(measure: Measure, layer_id: str) -> Change:
    """Take a layer away."""
    layer = _layer(measure, layer_id)
    kept = [mic.to_json() for mic in measure.plan.mics if mic.id != layer.id]
    owned = {"low_owner": ""} if measure.plan.low_owner == layer.id else {}
    return Change(f"{layer.name} taken away", owned | {"mics": kept})


def again(measure: Measure, layer_id: str) -> Change:
    """Open a layer by the hits as they are found now."""
    layer = _layer(measure, layer_id)
    hits = measure.hits.get(layer.piece, [])
    frozen = against_usual(hits, measure.rate)
    if layer.sampled and hits:
        frozen = landed(raw(measure.plan, measure.recordings, layer.sampled.of), hits, {}, measure.rate)[0]
    now = [list(row) for row in frozen]
    return Change(
        f"{layer.name}: opened by {len(now)} hits",
        {f"mics.{layer.id}.{'made' if layer.made else 'sampled'}.strikes": now},
    )


def split(measure: Measure, piece: str, frequency_hz: float | None) -> Change:
    """Share a drum's range out between its mics and its layers, or with None hear both in full again: see ``replace.layers.split``."""
    rows = laying.split(measure.plan.mics, piece, frequency_hz)
    both = "mics and layers are heard in full"
    title = f"{piece}: {both if frequency_hz is None else f'layers below {frequency_hz:g} Hz, mics above'}"
    return Change(title, {f"mics.{mic}.tools": [each.to_json() for each in row] for mic, row in rows.items()})


def ways(measure: Measure, piece: str) -> list[dict]:
    """Return the ways to a drum's low end that change it instead of laying something under it, and which of them are taken."""
    rows = [mic for mic in measure.plan.mics if mic.piece == piece]
    taken = {way for way in WAYS if any(mic.tool(tool_id(way)) for mic in rows)}
    if any(path.id == WEIGHT for path in measure.plan.paths):
        taken.add(WEIGHT)
    return [{"way": way, "words": words, "taken": way in taken} for way, words in WAYS.items()]


def take_way(measure: Measure, piece: str, way: str) -> Change:
    """Take a way to a drum's low end, in the mic that carries it, or leave it again; with what it did to the kit's low end at its hits.

    Raises SettingsError for an unknown way, and for a drum without a mic of its own.
    """
    if way not in WAYS:
        raise SettingsError(f"way: expected one of {', '.join(WAYS)}; got {way[:40]!r}.")
    plan, taken = measure.plan, {each["way"] for each in ways(measure, piece) if each["taken"]}
    if way in taken:
        return Change(f"{piece}: no more {WAYS[way]}", _without(plan, piece, way))
    carrying = _carrying(measure, piece)
    if way == WEIGHT:
        tried = [_weight(plan, carrying)]
    else:
        struck = rigging.struck_with(measure, piece) if way == "lift" else ()
        own = next((each for each in struck if each.piece == piece), None)
        tools = tools_of(way, carrying, measure.tone(carrying).fundamental_hz, own)
        shared = {"struck": [each.to_json() for each in struck]} if struck else {}
        tried = [
            shared | {f"mics.{carrying.id}.tools": [t.to_json() for t in with_way(carrying, tool)]} for tool in tools
        ]
    after = [_kit_low_db(measure.at(change.put(plan, values)), piece) for values in tried]
    values, most = max(zip(tried, after, strict=True), key=lambda row: row[1])
    more = round(most - _kit_low_db(measure, piece), 1)
    low, high = main_hz(piece)
    return Change(f"{carrying.name}: {WAYS[way]}, {more:+.1f} dB at {low:g} to {high:g} Hz of the kit", values)


def _carrying(measure: Measure, piece: str) -> MicPlan:
    """Return the mic that carries a drum's low end."""
    mics = [m for m in measure.plan.mics if m.piece == piece and is_close(m.role) and not m.is_layer and not m.mute]
    if not mics:
        raise SettingsError(f"way: {piece} has no mic of its own that is heard.")
    told = carried(measure, piece)
    return max(mics, key=lambda mic: told.main_db.get(mic.id, -np.inf)) if told else mics[0]


def _weight(plan: Plan, mic: MicPlan) -> dict:
    """Return the changes by which a path of the drum's bottom is fed by its mic."""
    made = changes.add_path(plan, WEIGHT)
    sends = [each.to_json() for each in mic.sends if each.id != WEIGHT]
    return made.values | {f"mics.{mic.id}.sends": [*sends, {"id": WEIGHT, "level_db": 0.0}]}


def _without(plan: Plan, piece: str, way: str) -> dict:
    if way == WEIGHT:
        return changes.remove_path(plan, WEIGHT).values
    rows = {mic.id: without_way(mic, way) for mic in plan.mics if mic.piece == piece and mic.tool(tool_id(way))}
    return {f"mics.{mic}.tools": [each.to_json() for each in row] for mic, row in rows.items()}


def _kit_low_db(measure: Measure, piece: str) -> float:
    """Return the level of the kit in a drum's main band at its hits in the busiest part, in dB."""
    hits = measure.heard_hits.get(piece, [])
    span = measure.busy_span(hits)
    kit = rendered(measure.plan, measure.recordings, span, "mix").mean(axis=1)
    found = low_end({"kit": kit}, [h.time_s - span[0] / measure.rate for h in hits], measure.rate, piece)
    return found.sum_main_db if found else 0.0


def _layer(measure: Measure, layer_id: str) -> MicPlan:
    layer = measure.plan.mic(layer_id)
    if not layer.is_layer:
        raise SettingsError(f"layer: {layer.name} is a mic, not a layer.")
    return layer


def before_levels(measure: Measure, piece: str) -> Heard:
    """Return a drum's strips before their levels in the busiest part, with its hits."""
    plan, hits = measure.plan, measure.heard_hits.get(piece, [])
    span, timed = measure.busy_span(hits), timing_mic(plan.mics, piece)
    strips = {mic.id: rendered(plan, measure.recordings, span, f"strip:{mic.id}") for mic in strips_of(plan, piece)}
    later_s = timed.line_up.delay_ms / 1000.0 if timed else 0.0
    return strips, [h.time_s + later_s - span[0] / measure.rate for h in hits if not h.ghost]


def strips_of(plan: Plan, piece: str) -> list[MicPlan]:
    """Return the strips of a drum that are heard."""
    return [mic for mic in plan.standing if mic.piece == piece and not mic.mute]


def heard(measure: Measure, piece: str) -> Heard:
    """Return a drum's strips as they are heard, at their levels, in the busiest part."""
    strips, hits_s = before_levels(measure, piece)
    return laying.at_levels(strips_of(measure.plan, piece), strips), hits_s


def carried(measure: Measure, piece: str) -> LowEnd | None:
    """Return what carries a drum's low end as it is heard now; None without hits, and of silence."""
    return low_end(*heard(measure, piece), measure.rate, piece)


def turned_over_db(measure: Measure, piece: str) -> dict[str, float]:
    """Return by how much a drum's low end rises when a strip is turned over that is nothing but low end, a sub mic or a layer."""
    strips, hits_s = heard(measure, piece)
    mine = [mic.id for mic in measure.plan.mics if mic.id in strips and (mic.role == "sub" or mic.is_layer)]
    return {key: low_end_turned_over_db(strips, key, hits_s, measure.rate, piece) for key in mine}


def told(measure: Measure, piece: str) -> dict | None:
    """Return what carries a drum's low end with its layers and without them, as plain data."""
    strips, hits_s = heard(measure, piece)
    found = low_end(strips, hits_s, measure.rate, piece)
    if found is None:
        return None
    mine = [layer.id for layer in layers(measure, piece)]
    before = laying.without(found, strips, piece, mine, hits_s, measure.rate)
    return {
        "bands_hz": list(found.bands_hz),
        "main_hz": list(main_hz(piece)),
        "strips": {name: {"bands_db": rows, "main_db": found.main_db[name]} for name, rows in found.by_strip.items()},
        "sum_db": found.sum_db,
        "without_layers_db": before.sum_db,
        "sum_main_db": found.sum_main_db,
        "without_layers_main_db": before.sum_main_db,
        "split_hz": laying.split_hz(measure.plan.mics, piece),
        "strongest": found.strongest,
        "owner": measure.plan.low_owner,
        "gain_db": found.gain_db,
    }
