"""What happens between two strokes that come to lie nearer or further apart: one cut before the attack, or a stretched tail.

Both are cuts of all mics at the same samples. A stretch spreads the change over several small cuts in the tail, each where the sum of
all mics is most like itself one lag away (waveform similarity: W. Verhelst and M. Roelands, An overlap-add technique based on waveform
similarity (WSOLA) for high quality time-scale modification of speech, ICASSP 1993); attacks are never touched.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.crossfade import correlation
from arkund.core.plan.plan import Cut
from arkund.core.units import db_to_power

BEFORE_S = 0.004  # a cut lies this much before the attack
ATTACK_S = 0.03  # after a stroke's last hit nothing is stretched for this long
LEAST_TAIL_S = 0.06  # shorter tails are cut
SMALL_S = 0.002  # smaller changes are cut
DIED_DB = 34.0  # a tail this far below the attack before it is cut
JUMP_S = 0.012  # a stretch moves on by about this much at a time
VARY_S = 0.004  # and by so much more or less, where that sounds more alike
FADE_MS = 8.0
SLICE_FADE_MS = 2.0
LONGEST_TAIL_S = 0.5  # of which a place is sought

Read = Callable[[int, int], np.ndarray]


@dataclass(frozen=True, slots=True)
class Gap:
    """How the change between two strokes was made."""

    cuts: tuple[Cut, ...]
    method: str  # slices or stretch
    reason: str


def close_gap(
    read: Read, after: int, before: int, old: int, new: int, rate: int, method: str, fade_ms: float = SLICE_FADE_MS
) -> Gap:
    """Return the cuts that bring the shift from ``old`` to ``new`` samples between two attacks.

    read : the sum of all mics in the time of the recording; after, before : samples of the last hit before and of the next attack.
    """
    size, tail = abs(new - old), before - after
    at = before - min(round(BEFORE_S * rate), max(tail // 2, 1))
    if method == "auto":
        method, reason = _choose(read, after, at, size, rate)
    else:
        reason = "chosen"
    room = at - after - round(ATTACK_S * rate) - round(FADE_MS / 1000 * rate)
    if method == "stretch" and room < max(2 * size, round(0.02 * rate)):
        method, reason = "slices", "the tail is too short to be stretched so far"
    if method == "stretch":
        return Gap(tuple(_stretched(read, after, at, old, new, rate)), method, reason)
    joint = at + min(old, new)
    fade = round(fade_ms / 1000 * rate)
    alike = correlation(*(read(joint - shift - fade, joint - shift) for shift in (old, new)))
    return Gap((Cut(at=max(at, 0), shift=new, fade_ms=fade_ms, alike=alike),), "slices", reason)


def _choose(read: Read, after: int, at: int, size: int, rate: int) -> tuple[str, str]:
    if size <= SMALL_S * rate:
        return "slices", "too small to be heard in the tail"
    if at - after < LEAST_TAIL_S * rate:
        return "slices", "the next stroke follows too soon"
    attack = read(after, after + round(ATTACK_S * rate))
    end = read(at - round(0.01 * rate), at)
    if np.mean(end**2) * db_to_power(DIED_DB) < np.mean(attack**2):
        return "slices", "the tail has died away"
    return "stretch", "the tail still rings"


def _stretched(read: Read, after: int, at: int, old: int, new: int, rate: int) -> list[Cut]:
    """Return the cuts of a stretched tail: each region of it gets the place, and all but the last the lag, that sound most alike."""
    fade = round(FADE_MS / 1000 * rate)
    first = max(after + round(ATTACK_S * rate), at - round(LONGEST_TAIL_S * rate))
    count = max(min(-(-abs(new - old) // round(JUMP_S * rate)), (at - first) // (2 * fade)), 1)
    edges = np.linspace(first, at, count + 1).astype(int)
    margin = round((JUMP_S + VARY_S) * rate) + abs(new - old) // count + fade
    sound = read(first - margin, at + margin).astype(np.float64)
    out, shift = [], old
    for k in range(count):
        left = new - shift
        lag = round(left / (count - k))
        vary = round(VARY_S * rate) if k + 1 < count else 0
        low, high = edges[k] + fade, edges[k + 1]
        best = (-2.0, high, lag)
        for tried in _lags(lag, vary, rate):
            # the old piece ends where the new one begins: at the cut, or the lag before it
            here = np.arange(low, high) - first + margin
            value = _correlations(sound, here + min(tried, 0), here - max(tried, 0), fade)
            place = int(np.argmax(value))
            if value[place] > best[0]:
                best = (float(value[place]), low + place, tried)
        shift += best[2]
        out.append(
            Cut(at=int(best[1]), shift=int(shift), fade_ms=FADE_MS, alike=round(float(np.clip(best[0], 0, 1)), 3))
        )
    return out


def _lags(lag: int, vary: int, rate: int) -> list[int]:
    """Return lags around one, all of its sign."""
    step = max(rate // 8000, 1)
    tried = range(lag - vary, lag + vary + 1, step) if vary else (lag,)
    return [each for each in tried if each * lag > 0] or [lag]


def _correlations(x: np.ndarray, a_ends: np.ndarray, b_ends: np.ndarray, length: int) -> np.ndarray:
    """Return the normalised correlation of the ``length`` samples before each pair of places; the pairs are neighbours, one lag apart."""
    a0, b0, count = a_ends[0] - length, b_ends[0] - length, a_ends.size
    a, b = x[a0 : a0 + length + count - 1], x[b0 : b0 + length + count - 1]

    def sums(v):
        total = np.concatenate([[0.0], np.cumsum(v)])
        return total[length:] - total[:-length]

    power = np.sqrt(np.maximum(sums(a * a) * sums(b * b), 0.0)) + 1e-12
    return sums(a * b) / power
