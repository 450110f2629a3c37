"""The meter that explains the hits: whose strokes fall where in a bar, with its doubt.

Drums say a bar by habit: the kick begins it, the snare answers (on two and four; in three, on two and three or on three alone; in six eighths, on the
fourth), the hats count. Each meter is tried at every tempo that shares its pulse with the strokes, in windows, so that no steady tempo is needed, and the one
is taken under which the strokes are likeliest. Nothing is taken from how loud hats are: they are accented in twos in any meter.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.timing.bars import bpm_of
from arkund.core.timing.steady import FEWEST_HITS, estimate_tempo, fitted

WINDOW_S = 16.0
MOST_WINDOWS = 12
NEAR_S = 0.016  # spread of strokes around their places, one standard deviation
ASTRAY = 0.06  # share of strokes that may lie anywhere
RATIOS = (
    1 / 3,
    1 / 2,
    2 / 3,
    3 / 4,
    1.0,
    4 / 3,
    3 / 2,
    2.0,
    3.0,
)  # other meters' pulses against the one that was found
ALIKE = 0.02  # pulses nearer than this are one
WORTH = 0.25  # of what the windows say together: bars repeat each other, so they are not so many witnesses
LOWEST_BPM, HIGHEST_BPM = 30.0, 300.0
SURE = 0.8  # a meter's share from which it is taken
HABIT_OCTAVES = 0.55  # spread of usual tempos


@dataclass(frozen=True, slots=True)
class Meter:
    """A meter as it is usually drummed: how likely each piece is struck at each sixteenth of a bar."""

    beats: int
    unit: int
    usual_bpm: float
    kick: tuple[float, ...]
    snares: tuple[tuple[float, ...], ...]  # usual ways to answer
    hats: tuple[tuple[float, ...], ...]  # usual ways to count: eighths, sixteenths, beats
    first: tuple[float, ...]  # crashes

    @property
    def places(self) -> int:
        """Return the sixteenths of a bar."""
        return 16 * self.beats // self.unit


def _row(count: int, even: float, odd: float, **places: float) -> tuple[float, ...]:
    """Return shares of ``count`` places that add up to 1: eighths, sixteenths between them, and some (p0, p4 ...) that differ."""
    row = np.where(np.arange(count) % 2 == 0, even, odd)
    for name, value in places.items():
        row[int(name[1:])] = value
    return tuple(row / row.sum())


METERS = (
    Meter(4, 4, 115.0,
        _row(16, 2.0, 0.6, p0=9, p8=6, p4=0.7, p12=0.7),
        (_row(16, 0.4, 0.3, p4=12, p12=12), _row(16, 0.5, 0.4, p8=20), _row(16, 0.6, 0.4, p4=8, p12=8, p8=3)),
        (_row(16, 3.0, 0.1), _row(16, 1.0, 1.0), _row(16, 0.3, 0.1, p0=3, p4=3, p8=3, p12=3)),
        _row(16, 0.5, 0.2, p0=20, p8=2)),
    Meter(3, 4, 115.0,
        _row(12, 1.5, 0.6, p0=10, p4=0.8, p8=0.8),
        (_row(12, 0.4, 0.3, p4=10, p8=10), _row(12, 0.4, 0.3, p8=16), _row(12, 0.4, 0.3, p4=16)),
        (_row(12, 3.0, 0.1), _row(12, 1.0, 1.0), _row(12, 0.3, 0.1, p0=3, p4=3, p8=3)),
        _row(12, 0.5, 0.2, p0=20)),
    Meter(6, 8, 70.0,
        _row(12, 1.2, 0.5, p0=10, p6=1.2, p10=2.5, p4=1.8),
        (_row(12, 0.4, 0.3, p6=16),),
        (_row(12, 3.0, 0.1), _row(12, 1.5, 1.0), _row(12, 0.3, 0.1, p0=3, p6=3)),
        _row(12, 0.5, 0.2, p0=20, p6=1)),
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class MeterGuess:
    """A meter and its tempo, how sure it is (0-1, shares of all meters add up to 1) and what else it may be."""

    beats_per_bar: int
    beat_unit: int
    bpm: float
    share: float
    other: str

    @property
    def name(self) -> str:
        """Return it as it is written."""
        return f"{self.beats_per_bar}/{self.beat_unit}"

    @property
    def words(self) -> str:
        """Return the meter and its doubt in a sentence."""
        return f"{self.name} by where kick and snare fall ({self.share:.0%}" + (
            f"; or {self.other})." if self.share < 0.9 else ")."
        )


def estimate_meter(hits: Mapping[str, Sequence]) -> MeterGuess | None:
    """Return the meter that explains the hits best, or None with too few of them, or with none of kick, snare, hats and crashes."""
    pulses = [60.0 / g.bpm / s for g, s in ((estimate_tempo(hits, *m), s) for m, s in (((4, 4), 4), ((6, 8), 6))) if g]
    if not pulses:
        return None
    sixteenths: list[float] = []
    for pulse_s in (p * ratio for p in pulses for ratio in RATIOS):
        if all(abs(pulse_s / other - 1.0) > ALIKE for other in sixteenths):
            sixteenths.append(pulse_s)
    windows = _windows(hits)
    if not windows:
        return None
    best: dict[tuple[int, int], tuple[float, float]] = {}
    for meter in METERS:
        for pulse_s in sixteenths:
            bar_s = pulse_s * meter.places
            bpm = bpm_of(bar_s, meter.beats, meter.unit)
            if not LOWEST_BPM <= bpm <= HIGHEST_BPM:
                continue
            habit = -0.5 * (np.log2(bpm / meter.usual_bpm) / HABIT_OCTAVES) ** 2
            told = [_likely(window, pulse_s, meter) for window in windows]
            total = WORTH * (sum(told) / max(len(told), 1) * min(len(told), 4)) + habit
            best[meter.beats, meter.unit] = max(best.get((meter.beats, meter.unit), (-np.inf, 0.0)), (total, bpm))
    totals = np.array([total for total, _ in best.values()])
    shares = np.exp(totals - totals.max())
    shares /= shares.sum()
    order = np.argsort(-shares)
    (beats, unit), second = list(best)[order[0]], list(best)[order[1]]
    return MeterGuess(
        beats, unit, round(best[beats, unit][1], 3), round(float(shares[order[0]]), 3), f"{second[0]}/{second[1]}"
    )


def _windows(hits: Mapping[str, Sequence]) -> list[dict[str, np.ndarray]]:
    """Return the times of each kind of stroke in windows over the song, at most MOST_WINDOWS of them."""
    rows = {
        "kick": [h.time_s for h in hits.get("kick", [])],
        "snare": [h.time_s for h in hits.get("snare", []) if not h.ghost],
        "first": [h.time_s for h in hits.get("crash", [])],
        "hats": [h.time_s for piece in ("hihat", "ride") for h in hits.get(piece, [])],
    }
    every = np.concatenate([np.array(mine, float) for mine in rows.values()])
    if not every.size:
        return []
    starts = np.arange(every.min(), every.max(), WINDOW_S)
    step = max(len(starts) // MOST_WINDOWS, 1)
    out = []
    for start in starts[::step]:
        mine = {name: np.array([t for t in times if start <= t < start + WINDOW_S]) for name, times in rows.items()}
        if sum(times.size for times in mine.values()) >= FEWEST_HITS:
            out.append(mine)
    return out


def _likely(window: Mapping[str, np.ndarray], pulse_s: float, meter: Meter) -> float:
    """Return the log-likelihood of a window's strokes under a meter whose sixteenths last so long, at the best place of its bar lines."""
    every = np.concatenate(list(window.values()))
    pulse_s = (
        60.0 / fitted([times for times in window.values() if times.size], 60.0 / pulse_s, 1)
        if every.size > 16
        else pulse_s
    )
    phase_s = float(np.angle(np.sum(np.exp(2j * np.pi * every / pulse_s)))) / (2 * np.pi) * pulse_s
    turns = np.arange(meter.places)

    def told(times: np.ndarray, shares: tuple[float, ...]) -> np.ndarray:
        """Return the log-likelihood against strokes that fall anywhere, for each turn of the bar."""
        if not times.size:
            return np.zeros(meter.places)
        at = (times - phase_s) / pulse_s
        place = np.round(at).astype(int)
        near = np.exp(-0.5 * ((at - place) * pulse_s / NEAR_S) ** 2) / (NEAR_S * np.sqrt(2 * np.pi)) * pulse_s
        share = np.array(shares)[(place[None, :] - turns[:, None]) % meter.places]
        return np.log((1.0 - ASTRAY) * meter.places * share * near + ASTRAY).sum(axis=1)

    snare, hats = (
        np.max([told(window[name], shares) for shares in ways], axis=0)
        for name, ways in (("snare", meter.snares), ("hats", meter.hats))
    )
    return float(np.max(snare + hats + told(window["kick"], meter.kick) + told(window["first"], meter.first)))
