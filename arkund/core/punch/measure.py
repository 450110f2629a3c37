"""The average hit's envelope, and what a compressor did by the next hit."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp import _metering
from arkund.core.dsp.bank import WIDE, bank_of, coefficient, filter_bank
from arkund.core.dsp.filters import band
from arkund.core.tools import compressor
from arkund.core.tools.compressor import Compressor
from arkund.core.units import gain_to_db

BEFORE_MS, AFTER_MS = 10.0, 250.0
STEP_MS = 1.0
FOLLOW_MS = (0.2, 6.0)
MOST_HITS = 60
LOUD = frozenset({"kick", "snare", "tom1", "tom2", "tom3", "tom4", "floor", "crash"})
CLEAR_BEFORE_S, LEAST_CLEAR = 0.06, 4
SAME_S = 0.001  # nearer than this it is the same hit
TAKEN_FROM_MS, TAKEN_HITS = -120.0, 32  # what a compressor hears before a hit, and how many hits tell what it does
ROLL_S, LEAST_ROLL = 0.25, 3  # hits that follow each other so soon are a roll, where there are so many
TAKEN_WITHIN_MS = 120.0  # of a hit: its deepest reduction
BANDS = (("low", 20.0, 150.0), ("low mids", 150.0, 1000.0), ("high mids", 1000.0, 5000.0), ("top", 5000.0, 20_000.0))
BAND_ORDER = 4
ATTACK_MS, BODY_MS = (-2.0, 12.0), (30.0, 120.0)  # of an average hit
FIRST_SLOPE, LEAST_SLOPE = 0.6, 0.05  # dB that are taken for each dB by which a threshold is lower
NEAR_ENOUGH_DB = 0.03


@dataclass(frozen=True, slots=True)
class Envelope:
    """Average level in dBFS by ms from the hit."""

    time_ms: tuple[float, ...]
    level_db: tuple[float, ...]


def heard_clear(hits: Sequence, others: Mapping[str, Sequence], piece: str) -> list:
    """Return the hits of a piece that nothing follows before AFTER_MS, no other drum and not the piece itself; where those are too few, those that no other
    drum follows, and then all of them."""
    theirs = np.sort([h.time_s for name, mine in others.items() if name in LOUD - {piece} for h in mine if not h.ghost])
    own = np.sort([h.time_s for h in others.get(piece, hits)])
    after_s = AFTER_MS / 1000.0
    alone = [h for h in hits if not np.any((theirs > h.time_s - CLEAR_BEFORE_S) & (theirs < h.time_s + after_s))]
    once = [h for h in alone if not np.any((own > h.time_s + SAME_S) & (own < h.time_s + after_s))]
    return next((some for some in (once, alone) if sum(not h.ghost for h in some) >= LEAST_CLEAR), list(hits))


def average_envelope(read, hits: list, sample_rate_hz: int) -> Envelope:
    """Return the average envelope of hits; read(start, stop) gives a mic, raw or processed."""
    rate = sample_rate_hz
    before, after, step = (int(ms * rate / 1000) for ms in (BEFORE_MS, AFTER_MS, STEP_MS))
    strong = sorted((h for h in hits if not h.ghost), key=lambda h: -h.level_db)[:MOST_HITS]
    count = (before + after) // step
    total = np.zeros(count)
    lead = before * 3
    for h in strong:
        at = round(h.time_s * rate)
        part = np.abs(read(at - lead, at + after))
        out = np.empty(part.size, np.float32)
        _metering.follow(
            np.ascontiguousarray(part, np.float32),
            out,
            np.float32(coefficient(FOLLOW_MS[0], rate)),
            np.float32(coefficient(FOLLOW_MS[1], rate)),
        )
        kept = out[lead - before :][: count * step].reshape(count, step).max(axis=1)
        total += kept.astype(float) ** 2
    level = gain_to_db(np.sqrt(total / max(len(strong), 1)))
    times = (np.arange(count) * step - before) / rate * 1000
    return Envelope(tuple(np.round(times, 2).tolist()), tuple(np.round(level, 2).tolist()))


def attack_and_body_db(envelope: Envelope) -> tuple[float, float]:
    """Return the peak in the first 12 ms and the mean level from 30 to 120 ms."""
    t, level = np.array(envelope.time_ms), np.array(envelope.level_db)
    attack, body = ((t >= first) & (t < last) for first, last in (ATTACK_MS, BODY_MS))
    return float(level[attack].max()), float(level[body].mean())


def in_band(x: np.ndarray, low_hz: float, high_hz: float, sample_rate_hz: int) -> np.ndarray:
    """Return a band of a signal, float32 [shape=(samples,)]."""
    return filter_bank(bank_of([x]), [band(low_hz, high_hz, BAND_ORDER, sample_rate_hz)])[:, 0]


@dataclass(frozen=True, slots=True)
class Bars:
    """A stretch of a strip: level before its compressor and what that takes, in dB by ms; at each hit what is left of the reduction of the one before."""

    step_ms: float
    level_db: tuple[float, ...]
    taken_db: tuple[float, ...]
    hits_ms: tuple[float, ...]
    left_db: tuple[float, ...]


def over_bars(
    x: np.ndarray,
    heard: np.ndarray,
    settings: Compressor,
    hits: Sequence[int],
    sample_rate_hz: int,
    step_ms: float = 2.0,
) -> Bars:
    """Return what a compressor does over a stretch, with a second before it.

    x, heard : float32 [shape=(samples, channels)], what comes in and what its detector hears; hits : samples of the stretch at which its strip's hits begin
    """
    rate, lead, sides = sample_rate_hz, sample_rate_hz, heard.shape[1]
    bank = bank_of(list(heard.T))
    gain = compressor.gain(bank, [settings.replace(on=True, makeup_db=0.0, share=1.0)] * sides, rate, sides == 2)[:, 0]
    step = round(step_ms * rate / 1000.0)
    count = (x.shape[0] - lead) // step
    level = np.abs(x[lead : lead + count * step]).max(axis=1).reshape(count, step).max(axis=1)
    least = gain[lead : lead + count * step].reshape(count, step).min(axis=1)
    inside = [at for at in hits if 0 <= at < count * step]
    left = [-float(gain_to_db(gain[lead + at - 1])) for at in inside]
    return Bars(
        step_ms,
        tuple(np.round(gain_to_db(level), 1).tolist()),
        tuple(np.round(-gain_to_db(least), 2).tolist()),
        tuple(round(1000.0 * at / rate, 1) for at in inside),
        tuple(round(each, 2) for each in left),
    )


@dataclass(frozen=True, slots=True)
class Taken:
    """What a compressor really takes from hits, in dB: at its deepest, and what is left of it at ``after_s``; the medians. Where there are rolls, what is left
    at their next hits, and how soon those come.
    """

    deepest_db: float
    left_db: float
    after_s: float
    roll_left_db: float | None = None
    roll_after_s: float | None = None


def in_rolls(hits: Sequence) -> tuple[list, float]:
    """Return the hits that another of the same drum follows within ROLL_S, and the usual time to it; none and 0 where they are fewer than LEAST_ROLL."""
    ordered = sorted((h for h in hits if not h.ghost), key=lambda h: h.time_s)
    gaps = np.diff([h.time_s for h in ordered])
    quick = np.flatnonzero((gaps > SAME_S) & (gaps < ROLL_S))
    if quick.size < LEAST_ROLL:
        return [], 0.0
    return [ordered[k] for k in quick], float(np.median(gaps[quick]))


def hits_before(read, hits: list, after_s: float, sample_rate_hz: int) -> list[np.ndarray]:
    """Return the strongest hits as a compressor hears them, each from TAKEN_FROM_MS to after_s; read(start, stop) gives the mic in front of it."""
    strong = sorted((h for h in hits if not h.ghost), key=lambda h: -h.level_db)[:TAKEN_HITS]
    first, last = round(TAKEN_FROM_MS * sample_rate_hz / 1000), round(after_s * sample_rate_hz)
    places = [round(h.time_s * sample_rate_hz) for h in strong]
    return [np.asarray(read(at + first, at + last), np.float32) for at in places if at + first >= 0]


def taken(heard: list[np.ndarray], settings: Compressor, sample_rate_hz: int) -> Taken:
    """Measure what a compressor takes from hits as :func:`hits_before` gives them, float32 [each shape=(samples,), or (samples, 2) of linked sides].

    The curve alone does not tell it: the detector follows each half wave, so that steady tones lose 1 to 2.5 dB less than the curve says, and a slow attack
    lets the peak of a hit pass.
    """
    if not heard:
        return Taken(0.0, 0.0, 0.0)
    neutral, deepest, left = settings.replace(on=True, makeup_db=0.0, share=1.0), [], []
    begin = round(-TAKEN_FROM_MS * sample_rate_hz / 1000)
    within = begin + round(TAKEN_WITHIN_MS * sample_rate_hz / 1000)
    sides = 1 if heard[0].ndim == 1 else heard[0].shape[1]
    for first in range(0, len(heard), WIDE // sides):
        lanes = [row for each in heard[first : first + WIDE // sides] for row in np.atleast_2d(each.T)]
        bank = bank_of(lanes)
        gain = compressor.gain(bank, [neutral] * len(lanes), sample_rate_hz, sides == 2)[:, : len(lanes) : sides]
        deepest += (-gain_to_db(gain[begin:within].min(axis=0))).tolist()
        left += (-gain_to_db(gain[-1])).tolist()
    after_s = heard[0].shape[0] / sample_rate_hz + TAKEN_FROM_MS / 1000.0
    return Taken(round(float(np.median(deepest)), 2), round(float(np.median(left)), 2), round(after_s, 3))


def threshold_for_hits(heard: list[np.ndarray], settings: Compressor, wanted_db: float, rate: int) -> float:
    """Return the threshold in dB at which a compressor's deepest reduction at hits is wanted_db on the median; the lowest where none is."""
    last = round((TAKEN_WITHIN_MS - TAKEN_FROM_MS) * rate / 1000)
    strokes = [each[:last] for each in heard]  # what comes later changes nothing at its deepest
    return threshold_taking(
        lambda at: taken(strokes, settings.replace(threshold_db=at), rate).deepest_db, wanted_db, settings.threshold_db
    )


def threshold_taking(taken_db: Callable[[float], float], wanted_db: float, first_db: float = -24.0) -> float:
    """Return the threshold in dB at which so much is taken, within its range; taken_db says what is taken at a threshold, the more the lower that is.

    From a first one on along the slope that is found, by halves where that leads beyond what is known.
    """
    allowed = Compressor.ranges()["threshold_db"]
    low, high, at, slope, last = allowed.low, allowed.high, first_db, FIRST_SLOPE, None
    while high - low > allowed.step / 5:
        over = taken_db(at) - wanted_db
        if abs(over) <= NEAR_ENOUGH_DB:
            break
        low, high = (at, high) if over > 0.0 else (low, at)
        if last is not None and at != last[0]:
            slope = max((last[1] - over) / (at - last[0]), LEAST_SLOPE)
        last, at = (at, over), at + over / slope
        if not low < at < high:
            at = 0.5 * (low + high)
    return round(at, 1)
