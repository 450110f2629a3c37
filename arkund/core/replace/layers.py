"""Layers whose sound is made: how one is first laid under a drum, and how a drum's range is shared out between its mics and its layers."""

from collections.abc import Mapping, Sequence

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import LAYER, is_close
from arkund.core.plan.plan import LineUp, MicPlan
from arkund.core.replace import made as sounds
from arkund.core.replace.low_end import LowEnd, low_end
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Tool
from arkund.core.units import db_to_gain

LOWEST_OCTAVE_HZ = 30.0  # the octave below a drum's own peak is taken where it lies no lower
USUAL_HZ = 50.0  # where no fundamental was found
UNDER_DB = 3.0  # a layer begins so far under the strongest strip in the low end
SPLIT, SPLIT_HZ, USUAL_SPLIT_HZ = (
    "split",
    (40.0, 120.0),
    70.0,
)  # the id of the tool that shares a drum out, where it may, and where it usually does


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


def at_levels(mics: Sequence[MicPlan], strips: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
    """Return strips, by id, at their levels."""
    return {mic.id: strips[mic.id] * np.float32(db_to_gain(mic.level_db)) for mic in mics}


def fitted(
    layer: MicPlan, sound: np.ndarray, strips: Mapping[str, np.ndarray], hits_s: Sequence[float], sample_rate_hz: int
) -> MicPlan:
    """Return a layer at its first level, and in the polarity in which the sum is larger in the drum's main band.

    sound : the layer as it comes, float32 [shape=(samples,)]; strips : its drum's others at their levels; hits_s : in s from their start
    """
    alone, others = (low_end(each, hits_s, sample_rate_hz) for each in ({layer.id: sound}, strips))
    if alone is None or others is None:
        return layer
    level_db = max(others.whole_db(name) for name in strips) - UNDER_DB - alone.whole_db(layer.id)
    limits = MicPlan.ranges()["level_db"]
    layer = layer.replace(level_db=round(min(max(level_db, limits.low), limits.high), 1))
    heard = sound * np.float32(db_to_gain(layer.level_db))
    straight, turned = (
        low_end({**strips, layer.id: each}, hits_s, sample_rate_hz).sum_main_db for each in (heard, -heard)
    )
    return layer if straight >= turned else layer.replace(line_up=layer.line_up.replace(inverted=True))


def without(
    found: LowEnd, strips: Mapping[str, np.ndarray], layers: Sequence[str], hits_s, sample_rate_hz: int
) -> LowEnd:
    """Return a drum's low end without its layers; where it has none, or nothing else, the same."""
    rest = {name: x for name, x in strips.items() if name not in layers}
    return (low_end(rest, hits_s, sample_rate_hz) if len(rest) < len(strips) else None) or found


def split(mics: Sequence[MicPlan], piece: str, frequency_hz: float | None) -> dict[str, tuple[Tool, ...]]:
    """Return the rows of tools, by strip, by which a drum's mics are heard above a frequency and its layers below it, with slopes whose sum is flat; None takes
    that away again.

    Two Butterworth filters of 12 dB an octave on either side (S. H. Linkwitz, 1976): each is 6 dB down where they meet, in phase everywhere. Raises
    SettingsError where there is no layer, or no mic, and outside SPLIT_HZ.
    """
    mine = [mic for mic in mics if mic.piece == piece and (mic.made or is_close(mic.role))]
    if frequency_hz is None:
        return {mic.id: tuple(each for each in mic.tools if each.id != SPLIT) for mic in mine if mic.tool(SPLIT)}
    if not SPLIT_HZ[0] <= frequency_hz <= SPLIT_HZ[1]:
        raise SettingsError(f"split: {frequency_hz:g} Hz is outside {SPLIT_HZ[0]:g} to {SPLIT_HZ[1]:g} Hz.")
    if len({mic.made is None for mic in mine}) < 2:
        raise SettingsError(f"split: {piece} needs a mic and a layer, between which it is shared out.")
    return {mic.id: mic.with_tool(_half(mic, frequency_hz)) for mic in mine}


def _half(mic: MicPlan, frequency_hz: float) -> Tone:
    half = Band(kind="low_pass" if mic.made else "high_pass", frequency_hz=frequency_hz, slope_db=12)
    return Tone(id=SPLIT, on=True, bands=(half, half))


def split_hz(mics: Sequence[MicPlan], piece: str) -> float | None:
    """Return where a drum is shared out between its mics and its layers; None where it is not."""
    found = (mic.tool(SPLIT) for mic in mics if mic.piece == piece)
    return next((each.bands[0].frequency_hz for each in found if each and each.on and each.bands), None)
