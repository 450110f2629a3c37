"""Changes of the rig as Moves, and the strikes that detectors hear, frozen as they are found."""

from collections.abc import Sequence

from arkund.core.errors import SettingsError
from arkund.core.findings import with_minus
from arkund.core.plan.plan import Struck
from arkund.core.rig import changes, places, rows
from arkund.core.rig.changes import Change
from arkund.core.timing.bars import bars_of
from arkund.core.tools.tool import settings_of
from arkund.studio.models import Move, Session
from arkund.studio.services import moves
from arkund.studio.services.measuring import Measure


def make(session: Session, change: Change, step: str = "blend", version: int | None = None) -> Move:
    """Make a change of the rig as a Move of a step."""
    version = moves.read_at(session, version)
    return moves.apply(session.pk, change.values, step=step, title=change.title, version=version)


def check_bars(session: Session, bars: Sequence[tuple[int, int]]) -> None:
    """Raise SettingsError where a song does not have some bars (first, the one after the last), counted from 0."""
    measure = Measure(session)
    length_s = measure.recordings.length(measure.plan.take) / measure.rate
    there = len(bars_of(measure.plan.tempo).lines_s(length_s)) - 1
    for first, after in bars:
        if not 0 <= first < after <= there:
            raise SettingsError(f"bars: {first + 1} to {after} are not in the song, which has bars 1 to {there}.")


def add_tool(session: Session, strip: str, kind: str, at: int | None = None) -> Change:
    """Return the change that adds a tool to a row; one that is drawn over the song with the hits that it follows. Raises SettingsError where there are none."""
    if not settings_of(kind).drawn:
        return changes.add_tool(session.plan, strip, kind, at)
    measure, named = Measure(session), places.named(session.plan, strip)
    if named.sort != "mic" or not measure.hits.get(named.strip.piece):
        raise SettingsError(f"{kind}: follows the hits of a mic's own drum, and {named.words} has none.")
    return changes.add_tool(session.plan, strip, kind, at, measure.followed(named.strip, kind))


def move_band(session: Session, strip: str, tool_id: str, number: int, range_db: float) -> Change:
    """Return the change that lets a band of an equaliser move with the level in it, from a threshold at which a mic's usual hit moves it all the way.

    Raises SettingsError where there is no such band, and for a range that is none.
    """
    named = places.named(session.plan, strip)
    tool = named.strip.tools[rows.place_of(named.strip.tools, tool_id)]
    if tool.kind != "tone" or not 0 <= number < len(tool.bands):
        raise SettingsError(f"band: {tool_id} of {named.words} has no filter {number + 1}.")
    band = tool.bands[number].replace(range_db=range_db)
    if named.sort == "mic":
        found = Measure(session).threshold_of_band(named.strip, tool.id, band)
        band = band if found is None else band.replace(threshold_db=found)
    bands = [*tool.bands[:number], band, *tool.bands[number + 1 :]]
    words = f"{named.words}: filter {number + 1} moves by up to {range_db:+g} dB from {band.threshold_db:g} dB"
    return Change(with_minus(words), {f"{named.place}.tools.{tool.id}.bands": [each.to_json() for each in bands]})


def set_key(session: Session, strip: str, tool_id: str, of: str) -> Change:
    """Return the change that lets a tool's detector listen to something; the strikes of a piece are frozen as they are found now."""
    change = changes.set_key(session.plan, strip, tool_id, of)
    if not of.startswith("hits:"):
        return change
    struck = [each.to_json() for each in struck_with(Measure(session), of[5:])]
    return Change(change.title, change.values | {"struck": struck})


def struck_with(measure: Measure, piece: str) -> tuple[Struck, ...]:
    """Return a Plan's frozen strikes with those of a piece as they are found now. Raises SettingsError where none are."""
    found = sorted(measure.hits.get(piece, []), key=lambda hit: hit.time_s)
    if not found:
        raise SettingsError(f"key: no hits of {piece!r} were found.")
    strikes = tuple((round(hit.time_s * measure.rate), round(float(hit.level_db), 2)) for hit in found)
    others = tuple(each for each in measure.plan.struck if each.piece != piece)
    return (*others, Struck(piece=piece, strikes=strikes))
