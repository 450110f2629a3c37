"""What can be reckoned: for each the numbers that it asks for, with ranges and first values, and the function that answers."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from arkund.core.errors import SettingsError
from arkund.core.reckon import answers
from arkund.core.replace.notes import hz_of
from arkund.core.timing.note_values import note_ms

NOTED, TIMED = "Hz", "ms"  # units whose numbers may be typed as notes (E1) and as note values (1/8)


@dataclass(frozen=True, slots=True)
class Asked:
    """A number that a sheet asks for, by the name by which its answer knows it."""

    key: str
    words: str
    first: float
    low: float
    high: float
    unit: str = ""
    options: tuple[str, ...] = ()  # in words, where the number is one of few


@dataclass(frozen=True, slots=True)
class Sheet:
    """One reckoning: its name, what it asks for, and what answers it."""

    key: str
    title: str
    asks: tuple[Asked, ...]
    answer: Callable[..., list[answers.Line]]


RATE = Asked("rate_hz", "sample rate", 48_000.0, 8_000.0, 384_000.0, "samples/s")
WARMTH = Asked("temperature_c", "temperature", 20.0, -10.0, 45.0, "°C")
TEMPO = Asked("bpm", "tempo", 120.0, 20.0, 400.0, "BPM")

SHEETS = (
    Sheet(
        "pitch",
        "Note and frequency",
        (Asked("hz", "frequency or note", 55.0, 10.0, 20_000.0, "Hz"), WARMTH),
        answers.pitch,
    ),
    Sheet(
        "way",
        "Delay and distance",
        (Asked("ms", "delay", 1.0, 0.0, 10_000.0, "ms"), WARMTH, RATE),
        answers.way,
    ),
    Sheet(
        "comb",
        "Two paths of the same sound",
        (
            Asked("ms", "one later by", 1.0, 0.01, 100.0, "ms"),
            Asked("softer_db", "and softer by", 0.0, 0.0, 60.0, "dB"),
            Asked("inverted", "in polarity", 0.0, 0.0, 1.0, options=("the same", "inverted")),
        ),
        answers.comb,
    ),
    Sheet("tempo", "Tempo and note values", (TEMPO,), answers.tempo),
    Sheet("level", "Decibels and ratios", (Asked("db", "level", -6.0, -200.0, 200.0, "dB"),), answers.level),
    Sheet(
        "compressor",
        "What a compressor leaves",
        (
            Asked("in_db", "level in", -6.0, -90.0, 24.0, "dB"),
            Asked("threshold_db", "threshold", -18.0, -60.0, 0.0, "dB"),
            Asked("ratio", "ratio", 4.0, 1.0, 50.0, ": 1"),
            Asked("knee_db", "knee", 0.0, 0.0, 24.0, "dB"),
            Asked("makeup_db", "make-up", 0.0, -12.0, 24.0, "dB"),
        ),
        answers.compressor,
    ),
    Sheet(
        "bandwidth",
        "Q and bandwidth",
        (Asked("hz", "centre", 1000.0, 10.0, 20_000.0, "Hz"), Asked("q", "Q", 1.41, 0.05, 100.0)),
        answers.bandwidth,
    ),
    Sheet(
        "decay",
        "How long a ring lasts",
        (Asked("fall_db", "falls by", 20.0, 0.1, 120.0, "dB"), Asked("ms", "within", 200.0, 0.1, 60_000.0, "ms")),
        answers.decay,
    ),
)
BY_KEY = {sheet.key: sheet for sheet in SHEETS}


def reckon(key: str, typed: Mapping[str, str], bpm: float = 120.0) -> list[answers.Line]:
    """Return the answer of a sheet; typed : its numbers as text, those that are missing as they first are.

    Frequencies may be notes (``E1``), times note values (``1/8.``) at a tempo. Raises SettingsError for what is no number, or outside its range.
    """
    sheet = BY_KEY.get(key)
    if sheet is None:
        raise SettingsError(f"reckon: expected one of {', '.join(BY_KEY)}; got {key[:40]!r}.")
    unknown = set(typed) - {each.key for each in sheet.asks}
    if unknown:
        raise SettingsError(
            f"{sorted(unknown)[0][:40]}: not asked for by {key}; it asks for {', '.join(each.key for each in sheet.asks)}."
        )
    return sheet.answer(**{each.key: _number(each, typed.get(each.key, ""), bpm) for each in sheet.asks})


def _number(asked: Asked, text: str, bpm: float) -> float:
    text = text.strip().replace("−", "-")
    if not text:
        return asked.first
    try:
        value = float(text.replace(",", "."))
    except ValueError:
        if asked.unit == NOTED:
            value = hz_of(text)
        elif asked.unit == TIMED:
            value = note_ms(text, bpm)
        else:
            raise SettingsError(f"{asked.key}: expected a number, got {text[:40]!r}.") from None
    if not asked.low <= value <= asked.high:
        raise SettingsError(
            f"{asked.key}: {value:g} is outside {asked.low:g} to {asked.high:g} {asked.unit}".rstrip() + "."
        )
    return value
