"""A strip's compressor dialled in stage by stage: the versions of each stage with what they do to its own hits."""

from arkund.core.errors import SettingsError
from arkund.core.findings import with_minus
from arkund.core.punch.dialling import NOTES, SCHOOLS, STAGES, TIMES, Version, begun, made_up, stage_of, versions
from arkund.core.rig import places, rows
from arkund.core.timing.note_values import whole_s
from arkund.core.tools.compressor import Compressor
from arkund.studio.services import solving
from arkund.studio.services.measuring import Measure


def schools() -> list[dict]:
    """Return the schools with their words and the titles of their stages."""
    return [
        {"key": key, "words": words, "stages": [stage.title for stage in STAGES[key]]} for key, words in SCHOOLS.items()
    ]


def stage(
    measure: Measure, strip: str, tool_id: str, school: str, number: int, given: dict | None = None, notes: str = TIMES
) -> dict:
    """Return a stage: its question and its versions, ready to be tried.

    given : the compressor as it was left by the stage before, None at the first. Raises SettingsError where the row has no such compressor, for a strip
    without hits, and for what is no school, stage or setting.
    """
    if notes not in (TIMES, NOTES):
        raise SettingsError(f"notes: expected {TIMES} or {NOTES}, got {notes[:20]!r}.")
    mine = places.named(measure.plan, strip)
    tool = mine.strip.tools[rows.place_of(mine.strip.tools, tool_id)]
    if not isinstance(tool, Compressor):
        raise SettingsError(f"tool: {tool_id} of {mine.words} is no compressor.")
    now = begun(tool, school) if given is None else Compressor.from_json(given, "given").replace(id=tool.id, on=True)
    asked = stage_of(school, number)
    heard = solving.heard_by(measure, strip, now)
    tempo = measure.plan.tempo
    quarters = 240.0 / whole_s(tempo.bpm, tempo.beats_per_bar, tempo.beat_unit)
    found = versions(asked, solving.unkeyed(now), heard, measure.rate, notes, quarters)
    return {
        "key": asked.key,
        "number": number,
        "of": len(STAGES[school]),
        "title": asked.title,
        "listen_for": asked.listen_for,
        "timed": asked.setting == "release_ms",
        "place": f"{mine.place}.tools.{tool.id}",
        "versions": [_told(each, now, tool, heard, measure.rate) for each in found],
    }


def _told(version: Version, now: Compressor, was: Compressor, heard, rate: int) -> dict:
    told = f"takes {version.taken_db:.1f} dB, {version.left_db:.1f} dB left at the next hit"
    if not now.key.of:  # what it hears elsewhere has no attack of this strip
        told += f", attack against body {version.attack_db:+.1f} dB"
    settings = made_up(version.settings, solving.unkeyed(was), heard, rate).replace(key=now.key)
    return {"words": version.words, "told": with_minus(told), "settings": settings.to_json()}
