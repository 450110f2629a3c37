"""Each mic measured against the others: which piece it hears loudest and first, which files are the same, and which sides fit."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.null import null_db
from arkund.core.kit.pieces import timing_mic
from arkund.core.lineup.measure import arrival, clean_hits
from arkund.core.units import gain_to_db

BEFORE_S, AFTER_S = 0.004, 0.03
QUIET_S = 0.002
ONSET_SHARE = 0.25
STANDS_OUT = 6.0  # times what rang before
FEWEST_HITS = 3
MOST_HITS = 24
SAME_DB = -50.0  # what is left of one mic when another is taken away at the best gain
SPAN_S = 12.0
MOST_APART_MS = 6.0


@dataclass(frozen=True, slots=True)
class Heard:
    """How a mic hears a piece: median peak in dBFS, and how much later than the piece's own mic, in ms (None where it hardly stands out)."""

    mic: str
    piece: str
    level_db: float
    later_ms: float | None
    hits: int


def heard(plan, recordings, hits: Mapping[str, Sequence]) -> list[Heard]:
    """Return how every mic hears every piece, over hits that stand by themselves."""
    rate, out = recordings.sample_rate_hz, []
    readers = {mic.id: recordings.mic(plan.take, mic.id) for mic in plan.mics}
    for piece in hits:
        chosen = clean_hits(hits, piece)[:MOST_HITS]
        if len(chosen) < FEWEST_HITS:
            continue
        at = [round(h.time_s * rate) for h in chosen]
        rows = []
        for mic, reader in readers.items():
            if reader is None:
                continue
            sound = np.abs(np.stack([reader.read(s - int(BEFORE_S * rate), s + int(AFTER_S * rate)) for s in at]))
            course = sound.mean(axis=0)
            before = float(course[: int(QUIET_S * rate)].mean())  # what rang before is not this stroke
            clear = course.max() > STANDS_OUT * before
            first = int(np.argmax(course - before >= ONSET_SHARE * (course.max() - before))) / rate * 1000
            rows.append((mic, float(gain_to_db(np.median(sound.max(axis=1)))), first if clear else None))
        reference = timing_mic(plan.mics, piece)
        own = next((late for mic, _, late in rows if reference and mic == reference.id), None)
        for mic, level, late in rows:
            later = None if own is None or late is None else round(late - own, 3)
            out.append(Heard(mic, piece, round(level, 2), later, len(at)))
    return out


@dataclass(frozen=True, slots=True)
class Alike:
    """Two mics that carry the same sound: what is left of one without the other, in dB, and at which gain they cancel."""

    a: str
    b: str
    residual_db: float
    gain_db: float
    inverted: bool


def alike(plan, recordings, span: tuple[int, int]) -> list[Alike]:
    """Return all pairs of mics that null against each other over a span of the song."""
    sound = {}
    for mic in plan.mics:
        reader = recordings.mic(plan.take, mic.id)
        if reader is not None:
            sound[mic.id] = reader.read(*span)
    out, names = [], list(sound)
    for k, a in enumerate(names):
        for b in names[k + 1 :]:
            short_db, _ = null_db(sound[a][::7], sound[b][::7])
            if short_db > SAME_DB / 2:
                continue
            left_db, gain = null_db(sound[a], sound[b])
            if left_db < SAME_DB:
                out.append(Alike(a, b, round(left_db, 1), round(float(gain_to_db(gain)), 2), gain < 0))
    return out


@dataclass(frozen=True, slots=True)
class Pair:
    """A left and a right mic, and their polarity against each other at the snare."""

    left: str
    right: str
    polarity: int  # 1, -1, or 0 where the hits don't tell


def pairs(plan) -> list[tuple]:
    """Return the (left, right) mics of one role whose names differ by their side alone."""
    out = []
    for role in ("overhead", "room"):
        mics = [mic for mic in plan.mics if mic.role == role]
        lefts, rights = ([mic for mic in mics if mic.side == side] for side in "LR")
        out += list(zip(lefts, rights, strict=False))
    return out


def pair(plan, recordings, hits: Mapping[str, Sequence], left, right) -> Pair:
    """Measure a pair of mics."""
    rate = recordings.sample_rate_hz
    readers = [recordings.mic(plan.take, mic.id) for mic in (left, right)]
    polarity = 0
    chosen = clean_hits(hits, "snare") or clean_hits(hits, "kick")
    if len(chosen) >= FEWEST_HITS and None not in readers:
        at = [round(h.time_s * rate) for h in chosen]
        _, sign, _, sure = arrival(*readers, at, MOST_APART_MS, rate)
        polarity = sign if sure else 0
    return Pair(left.id, right.id, polarity)
