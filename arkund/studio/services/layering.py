"""Layers whose sound is made, as Moves: laid under a drum with what is measured of it, and what they do to its low end."""

from arkund.core.errors import SettingsError
from arkund.core.hits.resolve import against_usual
from arkund.core.kit.pieces import is_close, timing_mic
from arkund.core.plan.plan import LineUp, MicPlan
from arkund.core.replace import made as sounds
from arkund.core.replace.low_end import BANDS_HZ, LowEnd, low_end
from arkund.core.rig.changes import Change
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Tool, free_id
from arkund.core.units import db_to_gain
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered

LOWEST_OCTAVE_HZ = 30.0  # the octave below a drum's own peak is taken where it lies no lower
UNDER_DB = 3.0  # a layer begins so far under the strongest strip in the low end
USUAL_HZ = 50.0  # where no fundamental was found
SPLIT, SPLIT_HZ = "split", (40.0, 120.0)  # the id of the tool that shares a drum out, and where it may


def layers(measure: Measure, piece: str | None = None) -> list[MicPlan]:
    """Return the strips whose sound is made, of a piece or of all."""
    return [mic for mic in measure.plan.mics if mic.made and piece in (None, mic.piece)]


def add(measure: Measure, piece: str, sort: str, frequency_hz: float | None = None) -> Change:
    """Lay a made sound under a drum: at its note, in the polarity in which the sum is larger, a little under what carries the low end.

    frequency_hz : an octave below the drum's measured fundamental, or that itself, where none is given. Raises SettingsError for an unknown sort, and without
    hits.
    """
    if sort not in sounds.SORTS:
        raise SettingsError(f"sort: expected one of {', '.join(sounds.SORTS)}; got {sort!r}.")
    plan, mic = measure.plan, timing_mic(measure.plan.mics, piece)
    if mic is None or not measure.hits.get(piece):
        raise SettingsError(f"layer: no hits of {piece!r} were found, which could open a {sort}.")
    made = sounds.first(sort, frequency_hz or note_hz(measure, mic), strikes(measure, piece))
    layer_id = free_id(f"{piece}-{sort}", {each.id for each in plan.mics})
    line_up = LineUp(delay_ms=mic.line_up.delay_ms)
    layer = MicPlan(
        id=layer_id, name=f"{piece} {sort}", piece=piece, role="layer", made=made, group=mic.group, line_up=line_up
    )
    layer = _fitted(measure, layer)
    changes = {"mics": [each.to_json() for each in (*plan.mics, layer)]}
    return Change(f"A {sort} at {made.frequency_hz:.1f} Hz under {len(made.strikes)} hits of {piece}", changes)


def remove(measure: Measure, layer_id: str) -> Change:
    """Take a layer away."""
    layer = _layer(measure, layer_id)
    kept = [mic.to_json() for mic in measure.plan.mics if mic.id != layer.id]
    return Change(f"{layer.name} taken away", {"mics": kept})


def again(measure: Measure, layer_id: str) -> Change:
    """Open a layer by the hits as they are found now."""
    layer = _layer(measure, layer_id)
    now = [list(row) for row in strikes(measure, layer.piece)]
    return Change(f"{layer.name}: opened by {len(now)} hits", {f"mics.{layer.id}.made.strikes": now})


def _layer(measure: Measure, layer_id: str) -> MicPlan:
    layer = measure.plan.mic(layer_id)
    if not layer.made:
        raise SettingsError(f"layer: {layer.name} is a mic, not a layer.")
    return layer


def strikes(measure: Measure, piece: str) -> tuple[tuple[int, float], ...]:
    """Return a drum's hits as they are found: sample of the recording, and dB against the usual one that is no ghost."""
    return against_usual(measure.hits.get(piece, []), measure.rate)


def note_hz(measure: Measure, mic: MicPlan) -> float:
    """Return the note of a made sound: an octave below the drum's own, where that is not too low to be heard."""
    own = measure.tone(mic).fundamental_hz or USUAL_HZ
    return round(own / 2.0 if own / 2.0 >= LOWEST_OCTAVE_HZ else own, 1)


def split(measure: Measure, piece: str, frequency_hz: float | None) -> Change:
    """Share a drum's range out between its mics and its layers: above a frequency the mics, below it the layers, with slopes whose sum is flat; None takes that
    away again.

    Two Butterworth filters of 12 dB an octave on either side (S. H. Linkwitz, 1976): each is 6 dB down where they meet, in phase everywhere. Raises
    SettingsError where there is no layer, or no mic, and outside SPLIT_HZ.
    """
    mine = [mic for mic in measure.plan.mics if mic.piece == piece and (mic.made or is_close(mic.role))]
    if frequency_hz is None:
        rows = {mic: tuple(each for each in mic.tools if each.id != SPLIT) for mic in mine if mic.tool(SPLIT)}
        title = f"{piece}: mics and layers are heard in full"
    else:
        if not SPLIT_HZ[0] <= frequency_hz <= SPLIT_HZ[1]:
            raise SettingsError(f"split: {frequency_hz:g} Hz is outside {SPLIT_HZ[0]:g} to {SPLIT_HZ[1]:g} Hz.")
        if len({mic.made is None for mic in mine}) < 2:
            raise SettingsError(f"split: {piece} needs a mic and a layer, between which it is shared out.")
        rows = {mic: _with_split(mic, frequency_hz) for mic in mine}
        title = f"{piece}: layers below {frequency_hz:g} Hz, mics above"
    return Change(title, {f"mics.{mic.id}.tools": [each.to_json() for each in row] for mic, row in rows.items()})


def _with_split(mic: MicPlan, frequency_hz: float) -> tuple[Tool, ...]:
    """Return a strip's row with its half of a split at the end."""
    half = Band(kind="low_pass" if mic.made else "high_pass", frequency_hz=frequency_hz, slope_db=12)
    return mic.with_tool(Tone(id=SPLIT, on=True, bands=(half, half)))


def split_hz(measure: Measure, piece: str) -> float | None:
    """Return where a drum is shared out between its mics and its layers; None where it is not."""
    found = (mic.tool(SPLIT) for mic in measure.plan.mics if mic.piece == piece)
    return next((each.bands[0].frequency_hz for each in found if each and each.on and each.bands), None)


def carried(measure: Measure, piece: str, without: tuple[str, ...] = ()) -> LowEnd | None:
    """Return what carries a drum's low end as it is heard, strip by strip, at its hits in the busiest part; without : strips that are left out."""
    plan, hits = measure.plan, measure.heard_hits.get(piece, [])
    mine = [mic for mic in plan.mics if mic.piece == piece and not mic.mute and mic.id not in without]
    span = measure.busy_span(hits)
    strips = {
        mic.id: rendered(plan, measure.recordings, span, f"strip:{mic.id}") * db_to_gain(mic.level_db) for mic in mine
    }
    later_s = (timing_mic(plan.mics, piece) or mine[0]).line_up.delay_ms / 1000.0 if mine else 0.0
    times = [h.time_s + later_s - span[0] / measure.rate for h in hits if not h.ghost]
    return low_end(strips, times, measure.rate)


def _fitted(measure: Measure, layer: MicPlan) -> MicPlan:
    """Return a layer at its first level, and in the polarity in which the drum's low end is larger."""

    def with_it(mic: MicPlan) -> LowEnd | None:
        return carried(Measure(measure.session, measure.plan.replace(mics=(*measure.plan.mics, mic))), mic.piece)

    found = with_it(layer)
    others = [found.whole_db(name) for name in found.main_db if name != layer.id] if found else []
    if not others:
        return layer
    level_db = max(others) - UNDER_DB - found.whole_db(layer.id)
    limits = MicPlan.ranges()["level_db"]
    layer = layer.replace(level_db=round(min(max(level_db, limits.low), limits.high), 1))
    turned = layer.replace(line_up=layer.line_up.replace(inverted=True))
    return max((layer, turned), key=lambda mic: with_it(mic).sum_main_db)


def told(measure: Measure, piece: str) -> dict | None:
    """Return what carries a drum's low end with its layers and without them, as plain data."""
    mine = tuple(layer.id for layer in layers(measure, piece))
    found = carried(measure, piece)
    if found is None:
        return None
    before = carried(measure, piece, mine) if mine else found
    return {
        "bands_hz": list(BANDS_HZ),
        "strips": {name: {"bands_db": rows, "main_db": found.main_db[name]} for name, rows in found.by_strip.items()},
        "sum_db": found.sum_db,
        "without_layers_db": before.sum_db if before else None,
        "sum_main_db": found.sum_main_db,
        "without_layers_main_db": before.sum_main_db if before else None,
        "split_hz": split_hz(measure, piece),
        "strongest": found.strongest,
        "gain_db": found.gain_db,
    }
