"""The one tempo that explains the hits best, with its doubt: where a tempo map begins."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.plan.plan import Tempo
from arkund.core.timing.bars import bar_s, is_compound

SLOWEST_BPM, FASTEST_BPM = 55.0, 210.0
USUAL_BPM = 115.0
BACKBEAT_BEATS = 2.0
CLEAR = 1.25  # the best tempo's score against the best unrelated one
NEAR_SHARE = 0.06
WINDOW_HITS = 48  # in which the phase must hold
TEMPOS_AT_ONCE = 64
FEWEST_HITS = 8
FIRST_BEAT_VOTES = (("kick", 1.0), ("crash", 1.5), ("snare", -0.8))
NEAR = 0.3  # of a sixteenth: strokes nearer to the grid count in the fit


@dataclass(frozen=True, slots=True)
class TempoGuess:
    """An estimated tempo: score 0-1 (1 = every hit on the grid) and whether it stands clear of others."""

    bpm: float
    first_bar_s: float
    score: float
    sure: bool


def estimate_tempo(
    hits: Mapping[str, Sequence], beats_per_bar: int = 4, beat_unit: int = 4, near_bpm: float | None = None
) -> TempoGuess | None:
    """Return the tempo that best explains the hits, or None with fewer than eight.

    The score of a tempo is the length of the mean phase vector of all hits on a sixteenth grid, in windows, so that slow drift
    does not hide it (a Rayleigh statistic); tempos near USUAL_BPM are preferred where doubles fit as well. near_bpm : where it is known roughly, only tempos
    within NEAR_SHARE of it are tried.
    """
    rows = [(h.time_s, 10 ** (max(h.velocity - 127, -100) / 120)) for hs in hits.values() for h in hs if not h.ghost]
    if len(rows) < FEWEST_HITS:
        return None
    times, weights = np.array(sorted(rows)).T
    steps = 3 if is_compound(beats_per_bar, beat_unit) else 4
    candidates = np.arange(SLOWEST_BPM, FASTEST_BPM, 0.05)
    if near_bpm is not None:
        candidates = np.arange(near_bpm * (1 - NEAR_SHARE), near_bpm * (1 + NEAR_SHARE), 0.05)
    centre = np.log2(candidates / USUAL_BPM)
    score = _scores(times, weights, candidates, steps) * np.exp(-0.5 * (centre / 0.9) ** 2)
    backbeat_s = _backbeat_s(hits)
    if backbeat_s is not None and near_bpm is None:
        octaves = np.log2(candidates * backbeat_s / 60.0 / BACKBEAT_BEATS)
        score *= np.exp(-0.5 * (octaves / 0.6) ** 2)
    best = int(np.argmax(score))
    strong = [np.array([h.time_s for h in mine if not h.ghost]) for mine in hits.values()]
    bpm = fitted([mine for mine in strong if mine.size], float(candidates[best]), steps)
    ratio = candidates / bpm
    related = np.zeros(candidates.size, bool)
    for factor in (0.5, 2 / 3, 0.75, 1.0, 4 / 3, 1.5, 2.0):
        related |= np.abs(ratio - factor) < 0.03
    others = score[~related].max(initial=1e-6)
    first = _first_bar(hits, bar_s(Tempo(bpm=bpm, beats_per_bar=beats_per_bar, beat_unit=beat_unit)), beats_per_bar)
    whole = _whole_score(times, weights, bpm, steps)
    return TempoGuess(round(bpm, 3), first, round(float(whole), 3), bool(score[best] / others > CLEAR))


def _backbeat_s(hits) -> float | None:
    """Return the usual time between strong snares, which in most music is two beats; None with too few."""
    strong = np.sort([h.time_s for h in hits.get("snare", []) if not h.ghost])
    gaps = np.diff(strong)
    gaps = gaps[gaps > 0.3]
    return float(np.median(gaps)) if gaps.size >= 4 else None


def _scores(times: np.ndarray, weights: np.ndarray, bpm: np.ndarray, steps: int) -> np.ndarray:
    """Return for each tempo how well the hits lie on its sixteenths and, half as much, on its beats, in windows of WINDOW_HITS."""
    size = max(min(times.size, WINDOW_HITS), FEWEST_HITS)
    begins = np.arange(0, max(times.size - size // 2, 1), max(size // 2, 1))
    ends = np.minimum(begins + size, times.size)
    total = np.concatenate([[0.0], np.cumsum(weights)])
    total = total[ends] - total[begins]
    out = np.zeros(bpm.size)
    for first in range(0, bpm.size, TEMPOS_AT_ONCE):
        some = bpm[first : first + TEMPOS_AT_ONCE, None]
        beats = np.exp(2j * np.pi * times * some / 60.0)
        for turns, share in ((beats**steps, 1.0), (beats, 0.5)):
            sums = np.cumsum(turns * weights, axis=1)
            sums = np.concatenate([np.zeros((some.shape[0], 1)), sums], axis=1)
            out[first : first + TEMPOS_AT_ONCE] += share * np.mean(
                np.abs(sums[:, ends] - sums[:, begins]) / total, axis=1
            )
    return out


def fitted(pieces: Sequence[np.ndarray], bpm: float, steps: int) -> float:
    """Return a tempo refined by least squares on the strokes near its grid; each piece may lie ahead or behind as a whole.

    It begins in the middle of the song and reaches further out as it gets surer, so that a small error of tempo does not miscount.
    """
    every = np.sort(np.concatenate(pieces))
    middle, half = float(np.median(every)), max((every[-1] - every[0]) / 2, 1.0)
    reach = min(8.0, half)
    while True:
        step = 60.0 / bpm / steps
        x, y = [], []
        for mine in pieces:
            near = mine[np.abs(mine - middle) <= reach]
            if near.size < 3:
                continue
            phase = np.angle(np.sum(np.exp(2j * np.pi * near / step))) / (2 * np.pi) * step
            count = np.round((near - phase) / step)
            kept = np.abs(near - phase - count * step) < NEAR * step
            if kept.sum() >= 3:
                x.append(count[kept] - count[kept].mean())
                y.append(near[kept] - near[kept].mean())
        if x:
            x, y = np.concatenate(x), np.concatenate(y)
            bpm = 60.0 / float(x @ y / (x @ x)) / steps if x @ x > 0 else bpm
        if reach >= 2 * half:
            return bpm
        reach *= 1.6


def _whole_score(times, weights, bpm: float, steps: int) -> float:
    return float(np.abs(np.sum(weights * np.exp(2j * np.pi * times * bpm * steps / 60.0))) / weights.sum())


def _first_bar(hits, length: float, beats: int) -> float:
    """Return where the first bar begins: kicks on the first beat, snares not, crashes on it."""
    votes = np.zeros(beats * 24)
    for piece, sign in FIRST_BEAT_VOTES:
        times = np.array([h.time_s for h in hits.get(piece, []) if not h.ghost])
        place = (times / length % 1.0) * votes.size
        for p in place:
            for spread in (-1, 0, 1):
                votes[int(p + spread) % votes.size] += sign * (1.0 if spread == 0 else 0.5)
    phase = int(np.argmax(votes))
    rough = (phase + 0.5) / votes.size * length
    kicks = np.array([h.time_s for h in hits.get("kick", []) + hits.get("crash", [])])
    if kicks.size:
        off = (kicks - rough + length / 2) % length - length / 2
        near = off[np.abs(off) < 0.04]
        rough += float(np.median(near)) if near.size else 0.0
    first = min((h.time_s for p in ("kick", "snare") for h in hits.get(p, [])), default=0.0)
    return float(rough + np.floor((first + 0.1 - rough) / length) * length)
