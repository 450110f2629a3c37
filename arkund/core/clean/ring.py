"""How a drum rings in its own mic: how fast, down to which bleed, and so until when each of its hits is heard."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view

from arkund.core.clean.settings import FOLLOWED_DB
from arkund.core.units import gain_to_db

Read = Callable[[int, int], np.ndarray]

HOP_S = 0.005  # of the envelope, and of what each of its values is the RMS
RISE_S = 0.025  # a hit's level is the largest within this of its start
LOOK_S = 1.6  # a ring is followed for this long
CLEAR_S = 0.8  # after an own hit, that what sounds no longer counts as its ring but as bleed
OVER_BLEED_DB = 3.0
GONE_S = 0.05  # for which a ring stays under what it is over at: beating modes dip for shorter
LEAST_FALL_DB = 3.0  # that tells how fast a drum falls
SHORTEST_S = 0.06
USUAL_FALL = 0.35  # of the hits fall faster than what is taken as usual: others' hits lift many of them
PIECE_S = 30.0  # read at a time
QUIETEST_DB = -120.0


@dataclass(frozen=True, slots=True)
class Ringing:
    """A drum in its own mic.

    fall_db : by how much it is usually down, every HOP_S from its hit on; bleed_db : the usual level in dBFS where it is not played; levels_db, ends_s : of
    each hit, its level and when its ring is over
    """

    fall_db: tuple[float, ...]
    bleed_db: float
    levels_db: tuple[float, ...]
    ends_s: tuple[float, ...]


def ringing(
    read: Read, length: int, times_s: Sequence[float], sample_rate_hz: int, followed_db: float = FOLLOWED_DB
) -> Ringing:
    """Measure a mic; read(start, stop) gives its recording, times_s are those of its drum's hits, in order; followed_db : how far a ring is followed.

    A ring is over where this hit's own level says so: it has usually fallen below the bleed, or by followed_db, or it really has fallen into the bleed earlier.
    What others play meanwhile does not prolong it.
    """
    env = _envelope_db(read, length, sample_rate_hz)
    at = np.clip(np.round(np.asarray(times_s, float) / HOP_S).astype(int), 0, max(env.size - 1, 0))
    look, rise = round(LOOK_S / HOP_S), round(RISE_S / HOP_S)
    padded = np.concatenate([env, np.full(look + 1, QUIETEST_DB)])
    rows = padded[at[:, None] + np.arange(look)] if at.size else np.empty((0, look))
    levels = rows[:, : rise + 1].max(axis=1) if at.size else np.empty(0)
    played = np.zeros(padded.size, bool)
    for first in at.tolist():
        played[max(first - rise, 0) : first + round(CLEAR_S / HOP_S)] = True
    elsewhere = env[~played[: env.size]]
    bleed_db = float(np.median(elsewhere)) if elsewhere.size else QUIETEST_DB
    fall = _usual_fall(rows - levels[:, None], at) if at.size else np.zeros(look)
    ends = [
        _end(row, level, fall, bleed_db, followed_db) * HOP_S for row, level in zip(rows, levels.tolist(), strict=True)
    ]
    return Ringing(
        tuple(np.round(fall, 2).tolist()),
        round(bleed_db, 1),
        tuple(np.round(levels, 1).tolist()),
        tuple(round(float(t) + end, 4) for t, end in zip(times_s, ends, strict=True)),
    )


def heard_for(ringing: Ringing, deepest_db: float) -> tuple[float, float] | None:
    """Return after how many seconds a hit has fallen so far, or the loudest of them into the bleed before that, and by how many dB it is down then.

    None where it is not told: without hits, or where they hardly fall.
    """
    if not ringing.levels_db:
        return None
    fall = np.asarray(ringing.fall_db)
    into_bleed_db = max(ringing.levels_db) - ringing.bleed_db - OVER_BLEED_DB
    down = np.flatnonzero(fall <= -min(deepest_db, into_bleed_db))
    at = int(down[0]) if down.size else fall.size - 1
    if at * HOP_S < RISE_S or -fall[at] < LEAST_FALL_DB:
        return None
    return at * HOP_S, float(-fall[at])


def _usual_fall(rows: np.ndarray, at: np.ndarray) -> np.ndarray:
    """Return how a drum's hits fall, in dB from 0 on: of each delay those whose next own hit has not come."""
    look = rows.shape[1]
    gaps = np.diff(at, append=at[-1] + look)
    out = np.empty(look)
    for k in range(look):
        mine = rows[gaps > k + 2, k]
        out[k] = np.quantile(mine, USUAL_FALL) if mine.size else np.nan
    known = np.flatnonzero(~np.isnan(out))
    out = np.interp(np.arange(look), known, out[known]) if known.size else np.zeros(look)
    return np.minimum.accumulate(np.minimum(out, 0.0))


def _end(row: np.ndarray, level_db: float, fall_db: np.ndarray, bleed_db: float, followed_db: float) -> int:
    """Return after how many hops a hit's ring is over."""
    floor = max(bleed_db + OVER_BLEED_DB, level_db - followed_db)
    usual = np.flatnonzero(level_db + fall_db < floor)
    loudest = sliding_window_view(row, round(GONE_S / HOP_S)).max(axis=1)
    really = np.flatnonzero(loudest < floor)
    really = really[really > round(RISE_S / HOP_S)]
    ends = [some[0] for some in (usual, really) if some.size]
    return max(int(min(ends, default=row.size)), round(SHORTEST_S / HOP_S))


def _envelope_db(read: Read, length: int, rate: int) -> np.ndarray:
    """Return a mic's RMS in dBFS every HOP_S."""
    hop, out = round(HOP_S * rate), []
    size = hop * round(PIECE_S / HOP_S)
    for start in range(0, length, size):
        part = read(start, min(start + size, length))
        part = part[: part.size // hop * hop].reshape(-1, hop)
        out.append(gain_to_db(np.sqrt(np.mean(np.square(part, dtype=np.float64), axis=1))))
    return np.maximum(np.concatenate(out), QUIETEST_DB) if out else np.empty(0)
