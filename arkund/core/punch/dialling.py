"""Dialling in a compressor by ear, one question at a time: exaggerate, set the times, then back off, with a few versions ready at each stage."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.bank import WIDE, bank_of
from arkund.core.errors import SettingsError
from arkund.core.punch.measure import ATTACK_MS, BODY_MS, TAKEN_FROM_MS, taken, threshold_for_hits
from arkund.core.timing.note_values import note_ms
from arkund.core.tools import compressor as compressors
from arkund.core.tools.compressor import Compressor
from arkund.core.units import gain_to_db

EXAGGERATED_DB, BACK_DB = 10.0, 4.0  # taken while times are set, and in the end
HITS = 16  # by which versions are told: they are asked for while one listens
TIMES, NOTES = "times", "notes"  # how releases are offered
NOTE_VALUES = ("1/16", "1/8", "1/4", "1/2", "1/1")
SCHOOLS = {
    "times": "10:1 and 10 dB first, so that the times are heard; then the ratio back, then as much as is wanted.",
    "fastest": "The highest ratio, the fastest times and 12 dB first; then everything back, one after the other.",
}


@dataclass(frozen=True, slots=True)
class Stage:
    """One question: what is compared, what to listen for, the setting that differs, and its values."""

    key: str
    title: str
    listen_for: str
    setting: str
    values: tuple[float, ...]
    reduction_db: float | None = EXAGGERATED_DB  # that each version takes; None where that is what differs


_RATIO = Stage(
    "ratio", "How strong?", "the highest that does not sound held down", "ratio", (1.5, 2.5, 4.0, 6.0, 9.0), BACK_DB
)
_AMOUNT = Stage(
    "amount", "How much?", "the least that is still missed without it", "reduction", (2.0, 3.0, 4.0, 6.0, 8.0), None
)
_LONG = (100.0, 200.0, 400.0, 800.0, 1600.0)
STAGES = {
    "times": (
        Stage("attack", "How much of the stroke passes?", "glue, snap or punch", "attack_ms", (1.0, 10.0, 30.0)),
        Stage("release", "When does it let go?", "back before the next hit, or just after it", "release_ms", _LONG),
        _RATIO,
        _AMOUNT,
    ),
    "fastest": (
        Stage(
            "attack",
            "How much of the stroke passes?",
            "the stroke, coming back",
            "attack_ms",
            (0.1, 1.0, 3.0, 10.0, 30.0),
            12.0,
        ),
        Stage(
            "release",
            "When does it let go?",
            "no more fluttering, and back before the next hit",
            "release_ms",
            (30.0, 60.0, 120.0, 250.0, 500.0),
            12.0,
        ),
        _RATIO,
        _AMOUNT,
    ),
}
FIRST = {
    "times": {"ratio": 10.0, "attack_ms": 10.0, "release_ms": 200.0},
    "fastest": {"ratio": 20.0, "attack_ms": 0.1, "release_ms": 30.0},
}


@dataclass(frozen=True, slots=True)
class Version:
    """One of a stage's versions: what differs in words, the compressor, and what it does to the hits, in dB."""

    words: str
    settings: Compressor
    taken_db: float
    left_db: float
    attack_db: float


def begun(compressor: Compressor, school: str) -> Compressor:
    """Return a compressor as a school begins, its key, knee and what else it has kept. Raises SettingsError for an unknown school."""
    if school not in FIRST:
        raise SettingsError(f"school: expected one of {', '.join(FIRST)}; got {school[:40]!r}.")
    return compressor.replace(on=True, release_by="time", share=1.0, makeup_db=0.0, **FIRST[school])


def stage_of(school: str, number: int) -> Stage:
    """Return a stage of a school, counted from 0. Raises SettingsError where there is none."""
    rows = STAGES.get(school, ())
    if not 0 <= number < len(rows):
        raise SettingsError(f"stage: {school[:40]!r} has stages 0 to {len(rows) - 1}, got {number}.")
    return rows[number]


def versions(
    stage: Stage,
    now: Compressor,
    heard: Sequence[np.ndarray],
    sample_rate_hz: int,
    notes: str = TIMES,
    bpm: float = 120.0,
) -> list[Version]:
    """Return a stage's versions of a compressor, each with the threshold at which it takes what the stage wants from hits.

    heard : hits as ``punch.measure.hits_before`` gives them; notes : NOTES offers releases as note values at a tempo in quarters a minute
    """
    heard, out = list(heard)[:HITS], []
    for value, words in _values(stage, notes, bpm):
        reduction_db = value if stage.reduction_db is None else stage.reduction_db
        tried = now if stage.reduction_db is None else now.replace(**{stage.setting: value})
        if stage.setting == "release_ms":
            tried = tried.replace(release_by=words.partition(",")[0] if notes == NOTES else "time")
        threshold_db = threshold_for_hits(heard, tried, reduction_db, sample_rate_hz) if heard else tried.threshold_db
        tried = tried.replace(threshold_db=threshold_db)
        found = taken(heard, tried, sample_rate_hz)
        out.append(
            Version(words, tried, found.deepest_db, found.left_db, attack_change_db(heard, tried, sample_rate_hz))
        )
    return out


def _values(stage: Stage, notes: str, bpm: float) -> list[tuple[float, str]]:
    if stage.setting == "release_ms" and notes == NOTES:
        limits = Compressor.ranges()["release_ms"]
        timed = [(round(note_ms(each, bpm)), each) for each in NOTE_VALUES]
        return [(ms, f"{each}, {ms} ms") for ms, each in timed if limits.low <= ms <= limits.high]
    unit = {"ratio": ":1", "reduction": " dB"}.get(stage.setting, " ms")
    return [(value, f"{value:g}{unit}") for value in stage.values]


def attack_change_db(heard: Sequence[np.ndarray], settings: Compressor, sample_rate_hz: int) -> float:
    """Return by how much a compressor changes attack against body, in dB: the median over hits of what it takes from 30 to 120 ms after them less what it
    takes from their highest sample.
    """
    if not heard:
        return 0.0
    begin, rate, found = -TAKEN_FROM_MS / 1000.0, sample_rate_hz, []
    (a, b), (c, d) = ([round((begin + ms / 1000.0) * rate) for ms in span] for span in (ATTACK_MS, BODY_MS))
    for each, shaped in _shaped(heard, settings, rate):
        attack = gain_to_db(np.abs(shaped[a:b]).max()) - gain_to_db(np.abs(each[a:b]).max())
        body = gain_to_db(_rms(shaped[c:d])) - gain_to_db(_rms(each[c:d]))
        found.append(float(attack - body))
    return round(float(np.median(found)), 2)


def _shaped(
    heard: Sequence[np.ndarray], settings: Compressor, sample_rate_hz: int
) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """Yield each hit's louder side as it came and as a compressor leaves it before its make-up."""
    lanes = [
        np.ascontiguousarray(each if each.ndim == 1 else each[:, np.argmax(np.abs(each).max(axis=0))]) for each in heard
    ]
    for first in range(0, len(lanes), WIDE):
        some = lanes[first : first + WIDE]
        gain = compressors.gain(bank_of(some), [settings.replace(makeup_db=0.0)] * len(some), sample_rate_hz)
        yield from ((each, each * gain[: each.size, k]) for k, each in enumerate(some))


def loss_db(heard: Sequence[np.ndarray], settings: Compressor, sample_rate_hz: int) -> float:
    """Return by how much a compressor makes hits softer before its make-up, in dB: the median over hits of what is lost in their first 120 ms."""
    begin, rate, found = -TAKEN_FROM_MS / 1000.0, sample_rate_hz, []
    part = slice(*(round((begin + ms / 1000.0) * rate) for ms in (0.0, BODY_MS[1])))
    for each, shaped in _shaped(heard[:HITS], settings, rate):
        found.append(float(gain_to_db(_rms(each[part])) - gain_to_db(_rms(shaped[part]))))
    return float(np.median(found)) if found else 0.0


def made_up(version: Compressor, was: Compressor, heard: Sequence[np.ndarray], sample_rate_hz: int) -> Compressor:
    """Return a version that leaves hits as loud as the compressor did before it was dialled in, or as they came where that was off."""
    before_db = was.makeup_db - loss_db(heard, was, sample_rate_hz) if was.on else 0.0
    limits = Compressor.ranges()["makeup_db"]
    wanted_db = round(loss_db(heard, version, sample_rate_hz) + before_db, 1)
    return version.replace(makeup_db=min(max(wanted_db, limits.low), limits.high))


def _rms(x: np.ndarray) -> float:
    return float(np.sqrt(np.mean(np.square(x, dtype=np.float64)) + 1e-18))
