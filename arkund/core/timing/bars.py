"""Bar lines: where each bar of a tempo map begins, and where in its bar a moment lies."""

import functools
import re
from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import TempoChange

Span = tuple[float, float]  # of a song, in s


@dataclass(frozen=True, slots=True)
class Stretch:
    """Bars of one meter and tempo, from ``bar`` on; the first one also reaches back before the song."""

    bar: int
    start_s: float
    beat_s: float
    beats: int
    beat_unit: int

    @property
    def bar_s(self) -> float:
        """Return the length of one of its bars."""
        return self.beat_s * self.beats


@dataclass(frozen=True, slots=True)
class Bars:
    """The bar lines of a song."""

    stretches: tuple[Stretch, ...]

    def of(self, bar: int) -> Stretch:
        """Return the stretch that a bar belongs to."""
        return next((s for s in reversed(self.stretches) if s.bar <= bar), self.stretches[0])

    def start_s(self, bar: int) -> float:
        """Return when a bar begins."""
        mine = self.of(bar)
        return mine.start_s + (bar - mine.bar) * mine.bar_s

    def at_s(self, bar: int, beat: float) -> float:
        """Return when a place of a bar sounds, in beats from its line."""
        return self.start_s(bar) + beat * self.of(bar).beat_s

    def bar_of(self, times_s: np.ndarray) -> np.ndarray:
        """Return in which bar each moment lies, int [shape of times_s]."""
        times_s = np.asarray(times_s, float)
        starts = np.array([s.start_s for s in self.stretches[1:]])
        mine = np.searchsorted(starts, times_s, side="right")
        first, start, length = (
            np.array([getattr(s, name) for s in self.stretches])[mine] for name in ("bar", "start_s", "bar_s")
        )
        return first + np.floor((times_s - start) / length + 1e-9).astype(int)

    def lines_s(self, until_s: float) -> list[float]:
        """Return when each bar begins, from bar 0 to the first at or after a moment."""
        last = int(self.bar_of(np.array([until_s]))[0]) + 1
        return [self.start_s(bar) for bar in range(max(last, 0) + 1)]


def section_spans_s(plan, length_s: float) -> list[Span]:
    """Return where each section of a Plan sounds, from and until in seconds; the first begins with the song, the last ends with it."""
    lines = [bars_of(plan.tempo).start_s(each.bar) for each in plan.sections]
    edges = [0.0, *lines[1:], length_s] if lines else []
    return [(min(a, length_s), min(max(a, b), length_s)) for a, b in pairwise(edges)]


def meter_of(words: str) -> tuple[int, int]:
    """Return the beats and the unit of a meter as it is written, "6/8". Raises SettingsError."""
    match = re.fullmatch(r"(\d{1,2})/(\d{1,2})", words)
    if not match:
        raise SettingsError(f"meter: expected something like 4/4 or 6/8, got {words!r}.")
    return int(match[1]), int(match[2])


def is_compound(beats_per_bar: int, beat_unit: int) -> bool:
    """Say whether a meter counts dotted groups of three: 6/8, 9/8, 12/8."""
    return beat_unit == 8 and beats_per_bar % 3 == 0


def bpm_of(bar_length_s: float, beats_per_bar: int, beat_unit: int) -> float:
    """Return the tempo at which a bar has a length."""
    return 60.0 * beats_per_bar / bar_length_s / (3 if is_compound(beats_per_bar, beat_unit) else 1)


def beat_s(tempo) -> float:
    """Return the length of one counted beat of a tempo or of one of its changes, in seconds.

    In 6/8 and its kin the beat is an eighth, and BPM counts dotted quarters.
    """
    return 60.0 / tempo.bpm / (3 if is_compound(tempo.beats_per_bar, tempo.beat_unit) else 1)


def bar_s(tempo) -> float:
    """Return the length of a bar in seconds."""
    return beat_s(tempo) * tempo.beats_per_bar


@functools.lru_cache(maxsize=64)
def bars_of(tempo) -> Bars:
    """Return the bar lines of a Plan's tempo map."""
    out = [Stretch(0, tempo.first_bar_s, beat_s(tempo), tempo.beats_per_bar, tempo.beat_unit)]
    for each in tempo.changes:
        start = Bars((out[-1],)).start_s(each.bar)
        stretch = Stretch(each.bar, start, beat_s(each), each.beats_per_bar, each.beat_unit)
        out = [*(out[:-1] if out[-1].bar == each.bar else out), stretch]
    return Bars(tuple(out))


def with_line_at(tempo, bar: int, time_s: float):
    """Return the tempo map with one bar line moved; the lines around it stay where they are.

    The first line moves the whole song. Raises SettingsError where the line would pass a neighbour or a tempo would leave its range.
    """
    if bar == 0:
        return tempo.replace(first_bar_s=round(time_s, 4))
    bars = bars_of(tempo)
    rows = {s.bar: _change(s, s.bar_s) for s in bars.stretches}
    after = bars.of(bar + 1)
    rows[bar - 1] = _change(bars.of(bar - 1), time_s - bars.start_s(bar - 1))
    rows[bar] = _change(bars.of(bar), bars.start_s(bar + 1) - time_s)
    rows.setdefault(bar + 1, _change(after, after.bar_s))
    return with_rows(tempo, rows)


def with_rows(tempo, rows: dict[int, dict]):
    """Return a tempo map of (bpm, beats_per_bar, beat_unit) by the bar from which they hold; what repeats its forerunner is left out."""
    ordered = sorted(rows.items())
    first = tempo.replace(**ordered[0][1], changes=())
    changes, last = [], ordered[0][1]
    for bar, row in ordered[1:]:
        if any(abs(row[key] - last[key]) > 1e-9 for key in row):
            changes.append(TempoChange(bar=bar, **row))
            last = row
    return first.replace(changes=tuple(changes))


def _change(stretch: Stretch, length_s: float) -> dict:
    bpm = bpm_of(max(length_s, 1e-3), stretch.beats, stretch.beat_unit)
    return {"bpm": bpm, "beats_per_bar": stretch.beats, "beat_unit": stretch.beat_unit}
