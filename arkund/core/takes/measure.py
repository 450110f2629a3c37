"""How well each bar of each take is played, and how much a join between two takes will be heard."""

import itertools
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.timing.measure import Deviation, deviations
from arkund.core.units import power_to_db

GRID = 16
OFFSET_BIN_S = 0.005
MOST_OFFSET_S = 30.0
SMOOTH_BINS = 4
OFFSET_PIECES = ("kick", "snare", "tom1", "tom2", "floor")
POINTS_PER_MS = 0.8  # of mean offset, and of spread
POINTS_PER_DB = 1.0  # of unevenness and of level against the other takes
POINTS_PER_HIT = 6.0  # missing, or where no other take plays one
SEAM_HZ = (3000.0, 7000.0, 16000.0)  # the cymbals' two bands
SEAM_S = 0.6  # on each side
SEAM_FRAME_S = 0.02
HEARD_DB = 4.0  # a step of a band across the join that will be heard
TAIL_SHARE = 0.35  # the quieter frames: what rings between the strokes


@dataclass(frozen=True, slots=True)
class BarScore:
    """One bar of one take: 100 is without fault."""

    bar: int
    score: float
    offset_ms: float  # mean, positive = late
    spread_ms: float
    uneven_db: float
    missing: int
    doubled: int
    level_db: float  # of its snare and kick against the same bar of the other takes


def offset_s(reference: Mapping[str, Sequence], other: Mapping[str, Sequence]) -> float:
    """Return by how much later a take plays the song than the reference take; 0 where the two don't tell.

    The strokes of kick, snare and toms, each for itself in bins of 5 ms, are correlated; the median of the paired strokes refines it.
    """
    a, b = _strong(reference), _strong(other)
    if a.size < 8 or b.size < 8:
        return 0.0
    last = max(a[-1], b[-1]) + MOST_OFFSET_S
    size = int(last / OFFSET_BIN_S) + 1
    length = 1 << (2 * size).bit_length()
    smooth = np.hanning(2 * SMOOTH_BINS + 1)
    line = np.zeros(length)
    for piece in OFFSET_PIECES:
        x, y = (
            np.convolve(np.bincount((_strong(hits, piece) / OFFSET_BIN_S).astype(int), minlength=size), smooth, "same")
            for hits in (reference, other)
        )
        line += np.fft.irfft(np.fft.rfft(y, length) * np.conj(np.fft.rfft(x, length)), length)
    most = min(int(MOST_OFFSET_S / OFFSET_BIN_S), size - 1)
    lags = np.arange(-most, most + 1)
    value = line[lags] * (1.0 - 0.1 * np.abs(lags) / most)  # of equals the nearer
    rough = float(lags[int(np.argmax(value))] * OFFSET_BIN_S)
    nearest = np.clip(np.searchsorted(a, b - rough), 1, a.size - 1)
    off = np.where(
        np.abs(b - rough - a[nearest]) < np.abs(b - rough - a[nearest - 1]), b - a[nearest], b - a[nearest - 1]
    )
    near = off[np.abs(off - rough) < 0.03]
    return round(float(np.median(near)), 4) if near.size >= 8 else 0.0


def _strong(hits: Mapping[str, Sequence], *pieces: str) -> np.ndarray:
    mine = pieces or ("kick", "snare")
    return np.sort([h.time_s for p in mine for h in hits.get(p, []) if not h.ghost and h.time_s >= 0])


def scores(
    takes: Mapping[str, Mapping[str, Sequence]], offsets_s: Mapping[str, float], tempo
) -> dict[str, list[BarScore]]:
    """Return each take's bars with a score made of timing, evenness, missing or doubled hits against the majority, and level.

    takes : hits by piece, by take, in the take's own time; offsets_s : how much later each take plays the song
    """
    bars: dict[str, dict[int, list[Deviation]]] = {}
    for take, hits in takes.items():
        later = tempo.replace(first_bar_s=tempo.first_bar_s + offsets_s[take])
        bars[take] = {}
        for d in deviations(hits, later, GRID):
            bars[take].setdefault(d.bar, []).append(d)
    last = max((bar for mine in bars.values() for bar in mine), default=-1)
    out: dict[str, list[BarScore]] = {take: [] for take in takes}
    for bar in range(last + 1):
        rows = {take: mine.get(bar, []) for take, mine in bars.items()}
        usual = _majority(rows)
        levels = {take: _level(mine) for take, mine in rows.items()}
        known = [level for level in levels.values() if level is not None]
        for take, mine in rows.items():
            level = 0.0 if levels[take] is None or len(known) < 2 else levels[take] - float(np.median(known))
            out[take].append(_score(bar, mine, usual, level))
    return out


def _majority(rows: Mapping[str, list[Deviation]]) -> set[tuple[str, float]] | None:
    """Return the places (piece, beat) that more than half of the takes play; None where two or fewer takes cannot outvote one."""
    if len(rows) < 3:
        return None
    votes = Counter(
        place for mine in rows.values() for place in {(d.piece, round(d.meant, 3)) for d in mine if not d.ghost}
    )
    return {place for place, count in votes.items() if count > len(rows) / 2}


def _level(rows: Sequence[Deviation]) -> float | None:
    strong = [d.level_db for d in rows if d.piece in ("kick", "snare") and not d.ghost]
    return float(np.mean(strong)) if strong else None


def _score(bar: int, rows: Sequence[Deviation], usual, level_db: float) -> BarScore:
    strong = [d for d in rows if not d.ghost]
    main = [d for d in strong if d.piece in ("kick", "snare")] or strong
    off = np.array([d.off_ms for d in main] or [0.0])
    uneven = _uneven(strong)
    places = Counter((d.piece, round(d.meant, 3)) for d in strong)
    missing = len(usual - set(places)) if usual is not None else 0
    doubled = sum(count - 1 for place, count in places.items() if count > 1)
    doubled += len(set(places) - usual) if usual is not None else 0
    lost = POINTS_PER_MS * (abs(float(off.mean())) + float(off.std())) + POINTS_PER_DB * (uneven + abs(level_db))
    lost += POINTS_PER_HIT * (missing + doubled)
    score = 0.0 if not rows else max(100.0 - lost, 0.0)
    return BarScore(
        bar,
        round(score, 1),
        round(float(off.mean()), 2),
        round(float(off.std()), 2),
        round(uneven, 2),
        missing,
        doubled,
        round(level_db, 2),
    )


def _uneven(rows: Sequence[Deviation]) -> float:
    """Return the mean over the pieces of how much the levels of one piece's strokes differ within the bar, in dB."""
    spreads = []
    for piece in {d.piece for d in rows}:
        levels = [d.level_db for d in rows if d.piece == piece]
        if len(levels) > 1:
            spreads.append(float(np.std(levels)))
    return float(np.mean(spreads)) if spreads else 0.0


@dataclass(frozen=True, slots=True)
class Seam:
    """What a join changes in the cymbals: dB by band (the incoming take against the outgoing one there), and whether that will be heard."""

    number: int  # which of the Plan's joins
    steps_db: tuple[float, ...]
    heard: bool


def seam(outgoing: np.ndarray, incoming: np.ndarray, number: int, sample_rate_hz: int) -> Seam:
    """Compare the overheads' ring in the outgoing take with the one in the incoming take, around a join.

    outgoing, incoming : sum of the overheads from SEAM_S before to SEAM_S after the join, each in its own take, float32
    [shape=(samples,)]. Both play the same bars there, so that what differs is how the cymbals sound. Of each side the quieter frames are
    compared, so that it is their ring and not a stroke that decides, and the side where the takes differ less counts: a stroke more in one
    of them is no other sound.
    """
    half, steps = outgoing.size // 2, []
    for low, high in itertools.pairwise(SEAM_HZ):
        sides = [
            _ring_db(incoming[part], low, high, sample_rate_hz) - _ring_db(outgoing[part], low, high, sample_rate_hz)
            for part in (slice(0, half), slice(half, None))
        ]
        steps.append(round(min(sides, key=abs), 1))
    return Seam(number, tuple(steps), any(abs(step) >= HEARD_DB for step in steps))


def _ring_db(x: np.ndarray, low_hz: float, high_hz: float, rate: int) -> float:
    size = int(SEAM_FRAME_S * rate)
    count = x.size // size
    if count == 0:
        return -120.0
    frames = x[: count * size].reshape(count, size) * np.hanning(size)
    hz = np.fft.rfftfreq(size, 1 / rate)
    power = np.abs(np.fft.rfft(frames, axis=1)) ** 2
    band = power[:, (hz >= low_hz) & (hz < min(high_hz, rate / 2))].sum(axis=1) / size**2
    return float(power_to_db(np.quantile(band, TAIL_SHARE) + 1e-12))
