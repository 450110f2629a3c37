"""Playing around a steady click: how far each bar strays from one tempo, and whether it comes back.

Whoever plays to a click strays from it by some milliseconds and is drawn back within a few beats; whoever plays without one does not come back: small
differences of tempo add up to more and more. A map that follows the first kind would lay the grid beside the click that everything else was recorded to.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from scipy.fft import dct

from arkund.core.plan.plan import Tempo
from arkund.core.timing.bars import bar_s, beat_s, is_compound

MOST_STRAY_S, MOST_RMS_S = 0.035, 0.014  # of two bars together, and of all: what a click allows
SLOW_TURNS = 3  # half turns over the song: what is slower than that is a trend
TREND_SHARE, TREND_RMS_S = 0.6, 0.004  # of the strays' power, and by how much at least
FEWEST_BARS = 4
# BPM: round figures, how many standard deviations off they may lie, and how well the tempo must be known
FIGURES = ((1.0, 2.5, 0.04), (0.5, 2.0, 0.02), (0.1, 1.5, 0.012))
LEAST_SD_BPM = 0.002
MOST_KEPT = 0.9


@dataclass(frozen=True, slots=True)
class Steady:
    """One tempo for the whole song, and what it leaves over."""

    tempo: Tempo
    sd_bpm: float  # how well the strokes tell it
    strays_s: np.ndarray  # by bar: how late its strokes are on the mean, nan for bars without any

    @property
    def left_ms(self) -> float:
        """Return how far bars lie from it, rms."""
        return 1000.0 * float(np.sqrt(np.nanmean(self.strays_s**2)))

    @property
    def comes_back(self) -> bool:
        """Say whether the strays may be those of somebody who plays to a click: small, and without a trend."""
        known = self.strays_s[~np.isnan(self.strays_s)]
        pairs = (known[1:] + known[:-1]) / 2
        if np.max(np.abs(pairs), initial=0.0) > MOST_STRAY_S or self.left_ms > 1000 * MOST_RMS_S:
            return False
        power = dct(known, norm="ortho")[1:] ** 2
        slow = float(power[:SLOW_TURNS].sum())
        return slow < TREND_SHARE * float(power.sum()) or np.sqrt(slow / known.size) < TREND_RMS_S


def steady_fit(hits: Mapping[str, Sequence], tempo: Tempo, last_s: float) -> Steady | None:
    """Return the steady tempo near ``tempo`` that the strokes tell, a round figure where that is as likely; None with too few bars.

    The strokes of each bar together are one witness, for whoever strays does so with both hands and feet.
    """
    length = bar_s(tempo)
    bars = int(np.ceil((last_s - tempo.first_bar_s) / length))
    if bars < FEWEST_BARS:
        return None
    for _ in range(2):
        late = _late(hits, tempo, bars)
        at = np.flatnonzero(~np.isnan(late))
        if at.size < FEWEST_BARS:
            return None
        slope, offset = np.polyfit(at, late[at], 1)
        tempo = tempo.replace(
            bpm=float(tempo.bpm * length / (length + slope)), first_bar_s=float(tempo.first_bar_s + offset)
        )
        length = bar_s(tempo)
    rest = late[at] - offset - slope * at
    sd_bpm = max(tempo.bpm * _slope_sd(rest) / length, LEAST_SD_BPM)
    bpm = _figure(tempo.bpm, sd_bpm)
    middle = tempo.first_bar_s + float(at.mean()) * length
    tempo = tempo.replace(bpm=round(bpm, 4))
    tempo = tempo.replace(first_bar_s=middle - float(at.mean()) * bar_s(tempo))
    late = _late(hits, tempo, bars)
    # The kick says where the beat is; how far it lies from the rest is told by the bars that have it, where the beat is by all.
    ahead = _late({"kick": hits.get("kick", [])}, tempo, bars) - late
    off = float(np.nanmean(late)) + (float(np.nanmean(ahead)) if np.sum(~np.isnan(ahead)) >= FEWEST_BARS else 0.0)
    return Steady(tempo.replace(first_bar_s=round(tempo.first_bar_s + off, 5)), sd_bpm, late - np.nanmean(late))


def _late(hits, tempo: Tempo, bars: int) -> np.ndarray:
    """Return by bar how late its strokes are together, in seconds, each against its own piece's usual place; nan for bars without any.

    Phases are averaged as vectors: where the tempo does not hold, they come out large instead of cancelling.
    """
    step = beat_s(tempo) / (2 if is_compound(tempo.beats_per_bar, tempo.beat_unit) else 4)
    vectors, count, usual = np.zeros(bars, complex), np.zeros(bars), 0j
    for mine in hits.values():
        times = np.array([h.time_s for h in mine if not h.ghost]) - tempo.first_bar_s
        bar = np.floor((times + step / 2) / bar_s(tempo)).astype(int)
        times, bar = times[(bar >= 0) & (bar < bars)], bar[(bar >= 0) & (bar < bars)]
        turned = np.exp(2j * np.pi * times / step)
        own = turned.sum()
        usual += own
        turned *= np.conj(own) / (abs(own) + 1e-12)
        vectors += np.bincount(bar, turned.real, bars) + 1j * np.bincount(bar, turned.imag, bars)
        count += np.bincount(bar, minlength=bars)
    return np.where(count > 0, np.angle(vectors) + np.angle(usual), np.nan) * step / (2 * np.pi)


def _slope_sd(rest: np.ndarray) -> float:
    """Return the standard deviation of a line's slope through values whose rests follow each other like these (first-order).

    How much of a rest is kept from bar to bar is told too low by few of them, and more so beside a fitted line (the bias of M. G. Kendall, Note on bias in the
    estimation of autocorrelation, Biometrika 1954, with a line instead of a mean); so is their spread.
    """
    n, kept = rest.size, float(rest[1:] @ rest[:-1] / (rest @ rest + 1e-18))
    kept = float(np.clip(kept + (2.0 + 4.0 * kept) / n, 0.0, MOST_KEPT))
    witnesses = n * (1.0 - kept) / (1.0 + kept)
    spread = np.sqrt(rest @ rest / n / max(1.0 - 2.0 / witnesses, 0.25))
    return float(spread * np.sqrt(12.0 / witnesses) / n)


def _figure(bpm: float, sd_bpm: float) -> float:
    """Return the roundest tempo that the strokes allow, for clicks are set to round figures; else the tempo itself."""
    for step, most, known_bpm in FIGURES:
        near = round(bpm / step) * step
        if abs(bpm - near) <= most * sd_bpm and sd_bpm <= known_bpm:
            return near
    return bpm
