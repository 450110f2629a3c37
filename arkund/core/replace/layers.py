"""Layers: how one is first laid under a drum, through which tools it goes, and how a drum's range is shared out between its mics and its layers."""

from collections.abc import Mapping, Sequence

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import LAYER, is_close
from arkund.core.plan.plan import LineUp, MicPlan, Plan
from arkund.core.replace import made as sounds
from arkund.core.replace.low_end import LowEnd, low_end
from arkund.core.replace.sampled import Sampled, Shot
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Tool
from arkund.core.units import db_to_gain

LOWEST_OCTAVE_HZ = 30.0  # the octave below a drum's own peak is taken where it lies no lower
USUAL_HZ = 50.0  # where no fundamental was found
UNDER_DB = 3.0  # a layer begins so far under the strongest strip in the low end
SAMPLE_UNDER_DB = 6.0  # hits of the shelf likewise, in the drum's main band ...
SAMPLE_MOST_DB = -3.0  # ... but their peak no less than this under the drum's: some have hardly anything in that band
# The id of the tool that shares a drum out, where it may, and where it usually does.
SPLIT, SPLIT_HZ, USUAL_SPLIT_HZ = "split", (40.0, 120.0), 70.0


def note_hz(fundamental_hz: float | None) -> float:
    """Return the note of a made sound: an octave below the drum's own, where that is not too low to be heard."""
    own = fundamental_hz or USUAL_HZ
    return round(own / 2.0 if own / 2.0 >= LOWEST_OCTAVE_HZ else own, 1)


def laid(
    layer_id: str, mic: MicPlan, sort: str, frequency_hz: float, strikes: tuple[tuple[int, float], ...]
) -> MicPlan:
    """Return a made sound as a strip beside a drum's mic, in that mic's time."""
    return MicPlan(
        id=layer_id,
        name=f"{mic.piece} {sort}",
        piece=mic.piece,
        role=LAYER,
        group=mic.group,
        line_up=LineUp(delay_ms=mic.line_up.delay_ms),
        made=sounds.first(sort, frequency_hz, strikes),
    )


def laid_hits(layer_id: str, mic: MicPlan, shots: tuple[Shot, ...], strikes: tuple[tuple[int, float], ...]) -> MicPlan:
    """Return hits of the shelf as a strip beside a drum's mic, in that mic's time, polarity and gain."""
    return MicPlan(
        id=layer_id,
        name=f"{mic.piece} hits",
        piece=mic.piece,
        role=LAYER,
        group=mic.group,
        trim_db=mic.trim_db,
        line_up=mic.line_up,
        sampled=Sampled(shots=shots, of=mic.id, strikes=strikes),
    )


def going_into(layer: MicPlan, mic: MicPlan) -> MicPlan:
    """Return a layer that goes through the tools of a mic instead of being a strip of its own; as loud as before.

    What comes before a mic's trim, polarity and delay gets them with the mic. Tools and sends of its own are taken away.
    """
    turned = layer.line_up.inverted != mic.line_up.inverted
    return layer.replace(
        into=mic.id,
        trim_db=min(max(layer.trim_db - mic.trim_db, -40.0), 40.0),
        line_up=LineUp(inverted=turned),
        tools=(),
        sends=(),
    )


def coming_out(layer: MicPlan, mic: MicPlan) -> MicPlan:
    """Return a layer that went through a mic as a strip of its own, in that mic's time, polarity and gain."""
    turned = layer.line_up.inverted != mic.line_up.inverted
    return layer.replace(
        into="",
        trim_db=min(max(layer.trim_db + mic.trim_db, -40.0), 40.0),
        line_up=LineUp(delay_ms=mic.line_up.delay_ms, inverted=turned),
        group=mic.group,
    )


def without_layers(plan: Plan) -> Plan:
    """Return a Plan in which no layer sounds, and none shares a drum out."""
    mics = tuple(
        mic.replace(mute=mic.mute or mic.is_layer, tools=tuple(each for each in mic.tools if each.id != SPLIT))
        for mic in plan.mics
    )
    gone = tuple(f"mics.{mic.id}." for mic in plan.mics if mic.is_layer)
    split_of = f".tools.{SPLIT}."
    scenes = tuple(
        s.replace(held=tuple(h for h in s.held if not h.place.startswith(gone) and split_of not in h.place))
        for s in plan.scenes
    )
    return plan.replace(mics=mics, scenes=scenes)


def at_levels(mics: Sequence[MicPlan], strips: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Return strips, by id, at their levels."""
    return {mic.id: strips[mic.id] * np.float32(db_to_gain(mic.level_db)) for mic in mics}


def fitted(
    layer: MicPlan,
    sound: np.ndarray,
    strips: Mapping[str, np.ndarray],
    hits_s: Sequence[float],
    sample_rate_hz: int,
) -> MicPlan:
    """Return a layer at its first level, and in the polarity in which the sum is larger in the drum's main band.

    sound : the layer as it comes, float32 [shape=(samples,)]; strips : its drum's others at their levels; hits_s : in s from their start
    """
    alone, others = (low_end(each, hits_s, sample_rate_hz, layer.piece) for each in ({layer.id: sound}, strips))
    if alone is None or others is None:
        return layer
    if layer.sampled:
        level_db = min(max(others.main_db.values()) - SAMPLE_UNDER_DB - alone.main_db[layer.id], SAMPLE_MOST_DB)
    else:
        level_db = max(others.whole_db(name) for name in strips) - UNDER_DB - alone.whole_db(layer.id)
    limits = MicPlan.ranges()["level_db"]
    layer = layer.replace(level_db=round(min(max(level_db, limits.low), limits.high), 1))
    heard = sound * np.float32(db_to_gain(layer.level_db))
    straight, turned = (
        low_end({**strips, layer.id: each}, hits_s, sample_rate_hz, layer.piece).sum_main_db for each in (heard, -heard)
    )
    line_up = layer.line_up
    return layer if straight >= turned else layer.replace(line_up=line_up.replace(inverted=not line_up.inverted))


def without(
    found: LowEnd, strips: Mapping[str, np.ndarray], piece: str, layers: Sequence[str], hits_s, sample_rate_hz: int
) -> LowEnd:
    """Return a drum's low end without its layers; where it has none, or nothing else, the same."""
    rest = {name: x for name, x in strips.items() if name not in layers}
    return (low_end(rest, hits_s, sample_rate_hz, piece) if len(rest) < len(strips) else None) or found


def split(mics: Sequence[MicPlan], piece: str, frequency_hz: float | None) -> dict[str, tuple[Tool, ...]]:
    """Return the rows of tools, by strip, by which a drum's mics are heard above a frequency and its layers below it, with slopes whose sum is flat; None takes
    that away again.

    Two Butterworth filters of 12 dB an octave on either side (S. H. Linkwitz, 1976): each is 6 dB down where they meet, in phase everywhere. Raises
    SettingsError where there is no layer, or no mic, and outside SPLIT_HZ.
    """
    mine = [mic for mic in mics if mic.piece == piece and not mic.into and (mic.is_layer or is_close(mic.role))]
    if frequency_hz is None:
        return {mic.id: tuple(each for each in mic.tools if each.id != SPLIT) for mic in mine if mic.tool(SPLIT)}
    if not SPLIT_HZ[0] <= frequency_hz <= SPLIT_HZ[1]:
        raise SettingsError(f"split: {frequency_hz:g} Hz is outside {SPLIT_HZ[0]:g} to {SPLIT_HZ[1]:g} Hz.")
    if len({mic.is_layer for mic in mine}) < 2:
        raise SettingsError(f"split: {piece} needs a mic and a layer, between which it is shared out.")
    return {mic.id: mic.with_tool(_half(mic, frequency_hz)) for mic in mine}


def _half(mic: MicPlan, frequency_hz: float) -> Tone:
    half = Band(kind="low_pass" if mic.is_layer else "high_pass", frequency_hz=frequency_hz, slope_db=12)
    return Tone(id=SPLIT, on=True, bands=(half, half))


def split_hz(mics: Sequence[MicPlan], piece: str) -> float | None:
    """Return where a drum is shared out between its mics and its layers; None where it is not."""
    found = (mic.tool(SPLIT) for mic in mics if mic.piece == piece)
    return next((each.bands[0].frequency_hz for each in found if each and each.on and each.bands), None)
