"""The sheets of figures with what the session knows: its tempo, each drum's fundamental and ring, each mic's delay."""

from arkund.core.kit.pieces import is_close
from arkund.core.reckon.sheets import SHEETS, Asked, reckon
from arkund.core.timing.note_values import whole_s
from arkund.studio.services.measuring import Measure

OF_SONG = "this song's"  # how a value begins that there is one of


def known(measure: Measure) -> list[dict]:
    """Return values of the session by name, as a sheet's number could be: words, value, unit."""
    out = [
        {"words": "this song's tempo", "value": round(_quarters_bpm(measure), 2), "unit": "BPM"},
        {"words": "this song's temperature", "value": measure.plan.alignment.temperature_c, "unit": "°C"},
        {"words": "this song's sample rate", "value": measure.rate, "unit": "samples/s"},
    ]
    for mic in measure.shells():
        if not is_close(mic.role):
            continue
        found = measure.tone(mic)
        if found.fundamental_hz:
            out.append({"words": f"{mic.name}: fundamental", "value": found.fundamental_hz, "unit": "Hz"})
        if found.ring:
            out.append({"words": f"{mic.name}: ring", "value": found.ring.frequency_hz, "unit": "Hz"})
    for mic in measure.plan.mics:
        if mic.line_up.delay_ms:
            out.append({"words": f"{mic.name}: delay", "value": round(mic.line_up.delay_ms, 3), "unit": "ms"})
    return out


def _quarters_bpm(measure: Measure) -> float:
    """Return the tempo in quarters a minute, whatever the song counts."""
    tempo = measure.plan.tempo
    return 240.0 / whole_s(tempo.bpm, tempo.beats_per_bar, tempo.beat_unit)


def answer(measure: Measure, key: str, typed: dict[str, str]) -> list[dict]:
    """Return a sheet's answer as plain data; note values are of this song's tempo."""
    lines = reckon(key, typed, _quarters_bpm(measure))
    return [{"words": line.words, "text": line.text} for line in lines]


def sheets(measure: Measure) -> list[dict]:
    """Return every sheet with what it asks for, each number with what the session knows of its unit; what the song has one of is the first value."""
    values = known(measure)
    return [
        {"key": sheet.key, "title": sheet.title, "asks": [_asked(asked, values) for asked in sheet.asks]}
        for sheet in SHEETS
    ]


def _asked(asked: Asked, values: list[dict]) -> dict:
    mine = [each for each in values if asked.unit and each["unit"] == asked.unit]
    of_song = next((each["value"] for each in mine if each["words"].startswith(OF_SONG)), asked.first)
    options = [{"value": number, "words": words} for number, words in enumerate(asked.options)]
    return {"key": asked.key, "words": asked.words, "first": f"{of_song:g}", "unit": asked.unit} | {
        "options": options,
        "known": [each for each in mine if not each["words"].startswith(OF_SONG)],
    }
