"""Tempo, bars, and how far each hit is from where it was meant."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

SLOWEST_BPM, FASTEST_BPM = 55.0, 210.0
USUAL_BPM = 115.0
BACKBEAT_BEATS = 2.0
CLEAR = 1.25  # the best tempo's score against the best unrelated one


@dataclass(frozen=True, slots=True)
class TempoGuess:
    """An estimated tempo: score 0-1 (1 = every hit on the grid) and whether it stands clear of others."""

    bpm: float
    first_bar_s: float
    score: float
    sure: bool


@dataclass(frozen=True, slots=True)
class Deviation:
    """One hit against the grid."""

    piece: str
    time_s: float
    bar: int
    place: float  # beats from the bar line where it was played
    meant: float  # beats from the bar line of the nearest grid place
    off_ms: float  # positive = late
    ghost: bool


def beat_s(tempo) -> float:
    """Return the length of one counted beat in seconds (in 6/8 and its kin an eighth is bpm's beat divided by 3)."""
    compound = tempo.beat_unit == 8 and tempo.beats_per_bar % 3 == 0
    return 60.0 / tempo.bpm / (3 if compound else 1)


def bar_s(tempo) -> float:
    """Return the length of a bar in seconds."""
    return beat_s(tempo) * tempo.beats_per_bar


def bar_start_s(tempo, bar: int) -> float:
    """Return when a bar begins."""
    return tempo.first_bar_s + bar * bar_s(tempo)


def estimate_tempo(hits: Mapping[str, Sequence], beats_per_bar: int = 4, beat_unit: int = 4) -> TempoGuess | None:
    """Return the tempo that best explains the hits, or None with fewer than eight.

    The score of a tempo is the length of the mean phase vector of all hits on a sixteenth grid, in windows, so that slow drift
    does not hide it (a Rayleigh statistic); tempos near USUAL_BPM are preferred where doubles fit as well.
    """
    rows = [(h.time_s, 10 ** (max(h.velocity - 127, -100) / 120)) for hs in hits.values() for h in hs if not h.ghost]
    if len(rows) < 8:
        return None
    times, weights = np.array(sorted(rows)).T
    steps = 3 if beat_unit == 8 and beats_per_bar % 3 == 0 else 4
    candidates = np.arange(SLOWEST_BPM, FASTEST_BPM, 0.05)
    centre = np.log2(candidates / USUAL_BPM)
    score = np.array([_score(times, weights, bpm, steps) for bpm in candidates]) * np.exp(-0.5 * (centre / 0.9) ** 2)
    backbeat_s = _backbeat_s(hits)
    if backbeat_s is not None:
        octaves = np.log2(candidates * backbeat_s / 60.0 / BACKBEAT_BEATS)
        score *= np.exp(-0.5 * (octaves / 0.6) ** 2)
    best = int(np.argmax(score))
    fine = np.arange(candidates[best] - 0.1, candidates[best] + 0.1, 0.005)
    bpm = float(fine[int(np.argmax([_whole_score(times, weights, b, steps) for b in fine]))])
    ratio = candidates / bpm
    related = np.zeros(candidates.size, bool)
    for factor in (0.5, 2 / 3, 0.75, 1.0, 4 / 3, 1.5, 2.0):
        related |= np.abs(ratio - factor) < 0.03
    others = score[~related].max(initial=1e-6)
    first = _first_bar(hits, bpm, beats_per_bar, steps == 3)
    whole = _whole_score(times, weights, bpm, steps)
    return TempoGuess(round(bpm, 3), first, round(float(whole), 3), bool(score[best] / others > CLEAR))


def _backbeat_s(hits) -> float | None:
    """Return the usual time between strong snares, which in most music is two beats; None with too few."""
    strong = np.sort([h.time_s for h in hits.get("snare", []) if not h.ghost])
    gaps = np.diff(strong)
    gaps = gaps[gaps > 0.3]
    return float(np.median(gaps)) if gaps.size >= 4 else None


def _score(times, weights, bpm: float, steps: int) -> float:
    turn = np.exp(2j * np.pi * times * bpm * steps / 60.0)
    beat = np.exp(2j * np.pi * times * bpm / 60.0)
    size = max(min(times.size, 48), 8)
    parts = [slice(i, i + size) for i in range(0, times.size - size // 2, size // 2)]

    def mean(v):
        return np.mean([np.abs(np.sum(v[p] * weights[p])) / np.sum(weights[p]) for p in parts])

    return float(mean(turn) + 0.5 * mean(beat))


def _whole_score(times, weights, bpm: float, steps: int) -> float:
    return float(np.abs(np.sum(weights * np.exp(2j * np.pi * times * bpm * steps / 60.0))) / weights.sum())


def _first_bar(hits, bpm: float, beats_per_bar: int, compound: bool) -> float:
    """Return where the first bar begins: kicks on the first beat, snares not, crashes on it."""
    length = 60.0 / bpm / (3 if compound else 1) * beats_per_bar
    beats = beats_per_bar
    votes = np.zeros(beats * 24)
    for piece, sign in (("kick", 1.0), ("crash", 1.5), ("snare", -0.8)):
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


def deviations(hits: Mapping[str, Sequence], tempo, grid: int) -> list[Deviation]:
    """Return each hit's distance from the nearest place of a grid (places per whole note), sorted by time."""
    beat, bar = beat_s(tempo), bar_s(tempo)
    step = tempo.beat_unit / grid  # in counted beats
    out = []
    for piece, mine in hits.items():
        for h in mine:
            number = int(np.floor((h.time_s - tempo.first_bar_s + 0.5 * step * beat) / bar))
            place = (h.time_s - bar_start_s(tempo, number)) / beat
            meant = round(place / step) * step
            out.append(Deviation(piece, h.time_s, number, place, meant, (place - meant) * beat * 1000, h.ghost))
    return sorted(out, key=lambda d: d.time_s)


@dataclass(frozen=True, slots=True)
class PieceTiming:
    """How a piece sits on the grid."""

    piece: str
    hits: int
    mean_ms: float
    spread_ms: float
    furthest_ms: float


def by_piece(rows: Sequence[Deviation]) -> list[PieceTiming]:
    """Return mean push or drag and spread of each piece."""
    out = []
    for piece in dict.fromkeys(d.piece for d in rows):
        off = np.array([d.off_ms for d in rows if d.piece == piece])
        furthest = float(off[np.argmax(np.abs(off))])
        out.append(PieceTiming(piece, off.size, float(np.mean(off)), float(np.std(off)), furthest))
    return out
