"""What a mix must not lose: the other half of the kit card. Measured on what comes out, the kit against the raw sum of the same recordings, its pairs balanced.

A figure of the first half can be bought with any of these: hits cut short stand out, equal hits are dense, a narrow kit is centred. Each has a limit by style.
"""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from arkund.core.card.measure import (
    QUIETEST_DB,
    STRONG,
    Sound,
    lone_times,
    passed,
    sides_db,
    spans,
    strong_times,
    times,
)
from arkund.core.card.targets import INF, Figure, Range, off_by
from arkund.core.errors import AudioError
from arkund.core.units import gain_to_db, power_to_db

PEAK_MS = 15.0  # of a hit
LEAST_ACCENT_DB, LEAST_ACCENTS = 0.5, 6  # of a spread that there is to keep, and of hits that tell it
HIGHS_HZ = 6000.0
LONE_HIT_MS = 60.0  # of a hat that sounds alone
LEAST_LONE = 8
FRAME_MS, HIT_FRAME_MS, AFTER_HIT_MS = 10.0, 50.0, 60.0
HEARD_UNDER_HITS_DB = 30.0  # what lies further under the hits may go
DEEPEST = 0.05  # of all frames
TOP_HZ, BELOW_TOP_HZ = (11_000.0, 18_000.0), (4000.0, 11_000.0)
GAP_SHARE = 0.2  # of all frames: the softest, which are what lies between hits


@dataclass(frozen=True, slots=True)
class Cost:
    """A figure of what was lost, and what it may be, by style."""

    figure: Figure
    limits: Mapping[str, Range]


def _cost(figure: Figure, natural: Range, punchy: Range, heavy: Range) -> Cost:
    return Cost(figure, {"natural": natural, "punchy": punchy, "heavy": heavy})


def _within(limit: float) -> Range:
    return -limit, limit


SPREAD = "spread (standard deviation) of its peaks in the kit against that in the raw sum"
SIDES = "left against right at its hits"
COSTS = (
    _cost(Figure("accents_kick", "kick accents", "%", how=SPREAD), (80.0, INF), (60.0, INF), (40.0, INF)),
    _cost(Figure("accents_snare", "back-beat accents", "%", how=SPREAD), (80.0, INF), (60.0, INF), (40.0, INF)),
    _cost(
        Figure(
            "hats_even",
            "gain range of hi-hat and ride",
            "dB",
            how="above 6 kHz, what was done to hits that sound alone, from the least to the most (5 to 95 %)",
        ),
        (-INF, 3.0),
        (-INF, 4.0),
        (-INF, 6.0),
    ),
    _cost(
        Figure(
            "tails",
            "deepest cut between hits",
            "dB",
            how="of what lies within 30 dB of the hits: how much further it was turned down than they were (deepest 5 %)",
        ),
        (-10.0, INF),
        (-15.0, INF),
        (-20.0, INF),
    ),
    _cost(
        Figure("floor", "noise floor between hits", "dB", "change", how="the softest fifth against the hits"),
        (-INF, 1.0),
        (-INF, 3.0),
        (-INF, 6.0),
    ),
    _cost(
        Figure("top", "top end", "dB", "change", how="11 to 18 kHz against 4 to 11 kHz"),
        _within(2.0),
        _within(3.0),
        _within(4.0),
    ),
    _cost(
        Figure("width", "stereo width", "dB", "change", how="side against mid"),
        _within(2.0),
        _within(3.0),
        _within(3.0),
    ),
    _cost(Figure("image_kick", "image of the kick", "dB", how=SIDES), _within(1.5), _within(1.5), _within(1.5)),
    _cost(Figure("image_snare", "image of the snare", "dB", how=SIDES), _within(1.5), _within(1.5), _within(1.5)),
    _cost(
        Figure(
            "image_cymbals", "image of the cymbals", "dB", "change", how="left against right above 6 kHz, between hits"
        ),
        _within(1.0),
        _within(1.0),
        _within(1.0),
    ),
)


def costs(raw: Sound, now: Sound) -> dict[str, float | None]:
    """Return the figures of what was lost from a raw sum to a kit, None where the playing does not tell them; of a sum against itself, those of no loss.

    raw, now : the same part of the song, with the hits where each has them. Accents are in % of the sum's spread, all else is in dB. Raises AudioError
    where the two differ in length or rate.
    """
    if raw.audio.shape != now.audio.shape or raw.sample_rate_hz != now.sample_rate_hz:
        raise AudioError(
            f"costs: expected the same part of the song twice; got {raw.audio.shape} and {now.audio.shape} samples."
        )
    both = (raw, now)
    highs = [passed(each.audio, HIGHS_HZ, None, each.sample_rate_hz) for each in both]
    return {
        "accents_kick": _kept(*(_spread_db(each, "kick") for each in both)),
        "accents_snare": _kept(*(_spread_db(each, "snare") for each in both)),
        "hats_even": _hats_even_db(*both, *highs),
        "tails": _deepest_db(*both),
        "floor": _change(*both, _floor_db),
        "top": _change(*both, _top_db),
        "width": _change(*both, _width_db),
        "image_kick": sides_db(now.audio, times(now, "kick"), now.sample_rate_hz),
        "image_snare": sides_db(now.audio, times(now, "snare"), now.sample_rate_hz),
        "image_cymbals": _image_change_db(*both, *highs),
    }


def over_limit(figures: Mapping[str, float | None], style: str) -> dict[str, float]:
    """Return by figure by how much its limit of a style is passed; those that hold are left out."""
    off = {cost.figure.key: off_by(figures[cost.figure.key], cost.limits[style]) for cost in COSTS}
    return {key: by for key, by in off.items() if by > 0.0}


def _change(raw: Sound, now: Sound, of: Callable[[Sound], float | None]) -> float | None:
    before, after = of(raw), of(now)
    return None if before is None or after is None else after - before


def _spread_db(sound: Sound, piece: str) -> float | None:
    """Return the standard deviation of a drum's peaks in the kit."""
    parts = spans(sound.audio, times(sound, piece), -1.0, PEAK_MS, sound.sample_rate_hz)
    peaks = [float(gain_to_db(max(np.abs(part).max(), 1e-6))) for part in parts]
    return float(np.std(peaks)) if len(peaks) >= LEAST_ACCENTS else None


def _kept(before: float | None, after: float | None) -> float | None:
    return None if before is None or after is None or before < LEAST_ACCENT_DB else 100.0 * after / before


def _hats_even_db(raw: Sound, now: Sound, raw_highs: np.ndarray, highs: np.ndarray) -> float | None:
    """Return the range, 5 to 95 %, of what was done to the highs of hats and rides that sound alone."""
    changes = []
    for piece in ("hihat", "ride"):
        before, after = (
            [power_db(part) for part in spans(x, lone_times(sound, piece), 0.0, LONE_HIT_MS, sound.sample_rate_hz)]
            for sound, x in ((raw, raw_highs), (now, highs))
        )
        if len(before) == len(after) >= LEAST_LONE:
            gains = np.subtract(after, before)
            changes.append(gains - np.median(gains))
    if not changes:
        return None
    low, high = np.quantile(np.concatenate(changes), (0.05, 0.95))
    return float(high - low)


def _deepest_db(raw: Sound, now: Sound) -> float | None:
    """Return how much deeper than the hits what is heard between them lies now, at its deepest twentieth: 0 where nothing is cut."""
    rate = now.sample_rate_hz
    at_hits = [
        (power_db(before), power_db(after))
        for before, after in zip(
            spans(raw.audio, strong_times(raw.hits), 0.0, HIT_FRAME_MS, rate),
            spans(now.audio, strong_times(now.hits), 0.0, HIT_FRAME_MS, rate),
            strict=False,
        )
    ]
    if len(at_hits) < LEAST_ACCENTS:
        return None
    hit_db, gain_db = np.median([b for b, _ in at_hits]), np.median([a - b for b, a in at_hits])
    before, after = (frames_db(each.audio, rate) for each in (raw, now))
    heard = (before > hit_db - HEARD_UNDER_HITS_DB) & _between(raw, before.size)
    return float(np.quantile((after - before)[heard] - gain_db, DEEPEST)) if heard.any() else None


def _between(sound: Sound, count: int) -> np.ndarray:
    """Return which frames no hit of kick or snare is near before them."""
    starts_s = np.arange(count) * FRAME_MS / 1000.0
    hits_s = np.sort([h.time_s for piece in STRONG for h in sound.hits.get(piece, [])])
    last = np.searchsorted(hits_s, starts_s + FRAME_MS / 1000.0) - 1
    since_s = np.where(last >= 0, starts_s - np.concatenate([hits_s, [-INF]])[last], INF)
    return since_s > AFTER_HIT_MS / 1000.0


def _floor_db(sound: Sound) -> float | None:
    """Return the level of the softest fifth of the frames against that of the hits."""
    parts = spans(sound.audio, strong_times(sound.hits), 0.0, HIT_FRAME_MS, sound.sample_rate_hz)
    if len(parts) < LEAST_ACCENTS:
        return None
    levels = np.sort(frames_db(sound.audio, sound.sample_rate_hz))
    softest = levels[: max(int(GAP_SHARE * levels.size), 1)]
    return float(np.median(softest) - np.median([power_db(part) for part in parts]))


def _top_db(sound: Sound) -> float:
    top, below = (passed(sound.audio, *band, sound.sample_rate_hz) for band in (TOP_HZ, BELOW_TOP_HZ))
    return power_db(top) - power_db(below)


def _width_db(sound: Sound) -> float | None:
    if sound.audio.shape[1] < 2:
        return None
    left, right = sound.audio.T.astype(np.float64)
    return power_db((left - right)[:, None]) - power_db((left + right)[:, None])


def _image_change_db(raw: Sound, now: Sound, raw_highs: np.ndarray, highs: np.ndarray) -> float | None:
    """Return by how much the highs between hits moved to the left."""
    if now.audio.shape[1] < 2:
        return None
    levels = []
    for sound, x in ((raw, raw_highs), (now, highs)):
        sides = [frames_db(x[:, [side]], sound.sample_rate_hz) for side in (0, 1)]
        between = _between(sound, sides[0].size)
        if not between.any():
            return None
        levels.append(float(np.median((sides[0] - sides[1])[between])))
    return levels[1] - levels[0]


def frames_db(x: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the level of a sound [shape=(samples, channels)] in frames of FRAME_MS, dB [shape=(frames,)]."""
    size = round(FRAME_MS * sample_rate_hz / 1000.0)
    count = x.shape[0] // size
    power = np.square(x[: count * size], dtype=np.float64).reshape(count, size, x.shape[1]).mean(axis=1).sum(axis=1)
    return np.maximum(power_to_db(power + 1e-18), QUIETEST_DB)


def power_db(x: np.ndarray) -> float:
    """Return the level of a sound [shape=(samples, channels)], all channels together, in dB."""
    power = float(np.mean(np.square(x, dtype=np.float64)) * np.shape(x)[1])
    return max(float(power_to_db(power + 1e-18)), QUIETEST_DB)
