"""The tempo map that explains the hits: tempo, first bar, and where the tempo changes, with its doubt."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.plan.plan import Tempo
from arkund.core.timing.around import steady_fit
from arkund.core.timing.bars import bar_s, bars_of, beat_s, bpm_of, is_compound, with_rows
from arkund.core.timing.measure import deviations
from arkund.core.timing.steady import FEWEST_HITS, FIRST_BEAT_VOTES, NEAR, TempoGuess, estimate_tempo

HOLDS = 0.55  # length of the mean phase vector in a window: below it the tempo no longer explains the hits
WINDOW_BARS = 2  # to each side of a bar, when its line is looked for
BEND_S = 0.008  # a bar line this far from a steady tempo makes a change of tempo
PLACES = 16  # of a whole note, in which strokes are held against a map
LEAST_BARS = 2  # of one tempo
MOST_BEND = 0.04  # of a bar, by which the first bars may differ from the song's tempo
CLEARLY = 0.1  # better in agreement
MOST_STEP_S = 0.02  # from bar to bar; what is more is another tempo
STRETCH_S = 24.0  # in which a tempo is sought anew


@dataclass(frozen=True, slots=True)
class MapGuess:
    """An estimated tempo map: ``score`` 0-1 (1 = every hit on the grid) and whether it stands clear of others.

    Both a steady tempo and a map that follows the drummer are fitted; ``steady_left_ms`` and ``map_left_ms`` are how far bars lie from each, rms. The steady
    one is taken where the playing may be around a click; ``other`` is the one that was not, None where both are the same.
    """

    tempo: Tempo
    score: float
    sure: bool
    steady_left_ms: float
    map_left_ms: float
    other: Tempo | None = None

    @property
    def following(self) -> Tempo:
        """Return the map that follows the drummer."""
        return self.other if self.other is not None and self.other.changes else self.tempo

    @property
    def words(self) -> str:
        """Return the tempo map and its doubt in a sentence or two."""
        steady_left, map_left = f"{self.steady_left_ms:.1f} ms", f"{self.map_left_ms:.1f} ms"
        out = f"{_told_of(self.tempo)} explains the hits to {self.score:.0%}"
        if self.tempo.changes:
            out += f"; bars lie {map_left} from it (rms), {steady_left} from a steady tempo, and do not come back to it"
        elif self.other is not None:
            out += f"; bars stray {steady_left} from it (rms) and come back, as around a click; "
            out += f"a map that follows the drummer ({_told_of(self.other)}) leaves {map_left}"
        else:
            out += f"; bars lie {steady_left} from it (rms)"
        return out + ("." if self.sure else "; another tempo fits nearly as well, check the bar lines.")


def _told_of(tempo: Tempo) -> str:
    count = len(tempo.changes)
    return f"{tempo.bpm:.2f} BPM" + (f" with {count} change{'s' if count > 1 else ''}" if count else "")


def estimate_map(
    hits: Mapping[str, Sequence], beats_per_bar: int = 4, beat_unit: int = 4, near_bpm: float | None = None
) -> MapGuess | None:
    """Return the tempo map that explains the hits, steady where the playing may be around a click, or None with too few hits.

    near_bpm : where the tempo is known roughly
    """
    whole = estimate_tempo(hits, beats_per_bar, beat_unit, near_bpm)
    if whole is None:
        return None
    last_s = max(h.time_s for mine in hits.values() for h in mine)
    tempo = Tempo(bpm=whole.bpm, beats_per_bar=beats_per_bar, beat_unit=beat_unit, first_bar_s=whole.first_bar_s)
    following, score = _following(hits, tempo, whole, last_s)
    steady = steady_fit(hits, tempo, last_s)
    map_left = _left_ms(hits, following)
    if steady is None:
        return MapGuess(following, score, whole.sure or bool(following.changes), map_left, map_left)
    if steady.comes_back:
        other = following if following.changes else None
        return MapGuess(steady.tempo, whole.score, whole.sure, round(steady.left_ms, 2), map_left, other)
    sure = whole.sure or bool(following.changes)
    return MapGuess(following, score, sure, _left_ms(hits, steady.tempo), map_left, steady.tempo)


def _left_ms(hits, tempo: Tempo) -> float:
    """Return how far the strokes of each bar together lie from a tempo map, rms over the bars."""
    rows = [d for d in deviations(hits, tempo, PLACES) if not d.ghost]
    bars, where = np.unique([d.bar for d in rows], return_inverse=True)
    mean = np.bincount(where, [d.off_ms for d in rows]) / np.bincount(where)
    return round(float(np.std(mean)), 2) if bars.size else 0.0


def _following(hits, tempo: Tempo, whole: TempoGuess, last_s: float) -> tuple[Tempo, float]:
    """Return the tempo map that follows the drummer, and how well it explains the hits.

    A tempo is followed bar by bar: the phase of the strokes around each bar against the grid says where its line lies. Where the lines
    leave a straight course, the tempo changes; where the phase is lost, the tempo is sought anew, and the change lies at the bar line
    where the old tempo's lines meet the new one's beats.
    """
    lines, held, lost = _followed(hits, tempo, last_s)
    if not lost:
        found = straightened(np.array(lines), tempo, whole)
        if found.changes:
            found = straightened(_turned(hits, lines, tempo), tempo, None)
    else:
        found, held = _by_stretches(hits, tempo, last_s)
    return found, whole.score if not found.changes or not held else round(float(np.mean(held)), 3)


def _by_stretches(hits, tempo: Tempo, last_s: float) -> tuple[Tempo, list[float]]:
    """Return a tempo map of a song whose tempo jumps, and how well each of its bars is held."""
    guess = estimate_tempo(_between(hits, 0.0, STRETCH_S), tempo.beats_per_bar, tempo.beat_unit)
    now = tempo.replace(bpm=guess.bpm, first_bar_s=guess.first_bar_s) if guess else tempo
    rows: dict[int, dict] = {}
    every, held = [], []
    while True:
        lines, more, lost = _followed(hits, now, last_s)
        held += more
        anew = None
        if lost:
            since = lines[-1] + (1 + WINDOW_BARS) * bar_s(now)
            anew = estimate_tempo(_between(hits, since, STRETCH_S), tempo.beats_per_bar, tempo.beat_unit)
        if anew is None:
            _keep_stretch(rows, every, np.array(lines), now)
            break
        fitted = straightened(np.array(lines), now, None)
        bars, after = bars_of(fitted), beat_s(tempo.replace(bpm=anew.bpm))
        tried = np.arange(max(len(lines) - 3, 1), len(lines) + 2 * WINDOW_BARS + 1)
        at = np.array([bars.start_s(int(k)) for k in tried])
        met = anew.first_bar_s + np.round((at - anew.first_bar_s) / after) * after
        told = [
            _told(hits, at[k], now, met[k], after, (at[0], at[-1])) - abs(met[k] - at[k]) / beat_s(now)
            for k in range(at.size)
        ]
        best = int(np.argmax(told))
        _keep_stretch(rows, every, np.array([bars.start_s(k) for k in range(int(tried[best]))] + [met[best]]), now)
        now = tempo.replace(bpm=anew.bpm, first_bar_s=float(met[best]))
    first = tempo.replace(first_bar_s=round(every[0], 5))
    return (with_rows(first, rows) if rows else first), held


def _turned(hits, lines: list[float], tempo: Tempo) -> np.ndarray:
    """Return bending bar lines begun on the place that the kick falls on; of a steady tempo the first bar was found already."""
    at, count = np.array(lines), np.arange(len(lines))
    parts = tempo.beats_per_bar * _parts(tempo)
    votes = np.zeros(parts)
    for piece, vote in FIRST_BEAT_VOTES:
        times = np.array([h.time_s for h in hits.get(piece, []) if not h.ghost and at[0] <= h.time_s < at[-1]])
        place = np.interp(times, at, count) % 1.0 * parts
        near = np.round(place[np.abs(place - np.round(place)) < NEAR]).astype(int) % parts
        votes += vote * np.bincount(near, minlength=parts)
    turn = int(np.argmax(votes))
    if votes[turn] <= votes[0]:
        return at
    share = (turn - parts if turn > parts / 2 else turn) / parts
    before, after = at[0] - (at[1] - at[0]), at[-1] + (at[-1] - at[-2])
    return np.interp(count + share, np.arange(-1, count.size + 1), [before, *at, after])


def _told(
    hits, old_line_s: float, old: Tempo, new_line_s: float, new_beat_s: float, span: tuple[float, float]
) -> float:
    """Return how well the strokes of a span lie on the old tempo's sixteenths up to a line and on the new one's from there on, at most 1."""
    times = np.array([h.time_s for mine in hits.values() for h in mine])
    times = times[(times > span[0]) & (times < span[1])]
    parts = _parts(old)
    before = np.cos(2 * np.pi * (times - old_line_s) / beat_s(old) * parts)
    after = np.cos(2 * np.pi * (times - new_line_s) / new_beat_s * parts)
    return float(np.mean(np.where(times < new_line_s - 0.02, before, after))) if times.size else 0.0


def _keep_stretch(rows: dict, every: list[float], lines: np.ndarray, tempo: Tempo) -> None:
    """Add a stretch's tempos, by the bar from which they hold, and its bar lines to those before."""
    every[:] = every or [float(lines[0])]  # where the strokes have the first line, not where it was looked for
    before = len(every) - 1
    mine = straightened(lines, tempo, None)
    for each in (mine, *mine.changes):
        rows[before + (each.bar if each is not mine else 0)] = _row(each)
    every += [float(at) for at in lines[1:]]


def _row(tempo) -> dict:
    return {"bpm": tempo.bpm, "beats_per_bar": tempo.beats_per_bar, "beat_unit": tempo.beat_unit}


def _between(hits, since_s: float, seconds: float) -> dict:
    """Return the hits of some seconds from the first one after a moment on."""
    begin = min((h.time_s for mine in hits.values() for h in mine if h.time_s >= since_s), default=0.0)
    return {p: [h for h in mine if begin <= h.time_s < begin + seconds] for p, mine in hits.items()}


def _followed(hits, tempo: Tempo, last_s: float) -> tuple[list[float], list[float], bool]:
    """Return the bar lines from the first on, how well each is held (0-1), and whether the tempo was lost before the end."""
    rows = sorted((h.time_s, 0.4 if h.ghost else 1.0) for mine in hits.values() for h in mine)
    times, weights = np.array(rows).T
    length = bar_s(tempo)
    step = length / tempo.beats_per_bar / _parts(tempo)
    lines, held, weak, bend = [tempo.first_bar_s], [], 0, 0.0

    def around(line: float, bend: float) -> tuple[float, float] | None:
        """Return how well the strokes around a line agree (0-1) and how late they are, None with too few."""
        near = (times > line - WINDOW_BARS * length) & (times < line + WINDOW_BARS * length)
        if near.sum() < FEWEST_HITS // 2:
            return None
        grid = step * (length + bend) / length
        vector = np.sum(weights[near] * np.exp(2j * np.pi * (times[near] - line) / grid)) / weights[near].sum()
        return float(abs(vector)), float(np.angle(vector)) / (2 * np.pi) * grid

    # The song may begin faster or slower than it goes on: the first bars say so where they agree clearly better.
    shares = np.arange(-MOST_BEND, MOST_BEND + 1e-9, 0.002)
    known = [(told, share * length) for share in shares if (told := around(lines[0], share * length))]
    if known:
        even, best = around(lines[0], 0.0), max(known)
        (agreement, off), bend = best if best[0][0] > even[0] + CLEARLY else (even, 0.0)
        lines[0] += off if agreement >= HOLDS else 0.0
    while lines[-1] + length + bend < last_s - length / 2:
        expected = lines[-1] + length + bend
        told, off = around(expected, bend), 0.0
        if told is not None:
            agreement, off = told
            held.append(agreement)
            if agreement < HOLDS or abs(off) > MOST_STEP_S:
                weak += 1
                off = 0.0
            else:
                weak = 0
            if weak >= 2:
                kept = max(len(lines) - 2 * WINDOW_BARS + 1, 1)
                return lines[:kept], held[:-2], True
        bend += 0.2 * off
        lines.append(expected + 0.7 * off)
    return _polished(lines, times, weights, tempo), held, False


def _polished(lines: list[float], times: np.ndarray, weights: np.ndarray, tempo: Tempo) -> list[float]:
    """Return followed bar lines moved onto the strokes around them, with the bending course taken out."""
    if len(lines) < 3:
        return lines
    at = np.array(lines)
    count = np.arange(at.size)
    parts = tempo.beats_per_bar * _parts(tempo)
    for _ in range(2):
        course = np.interp(times, at, count, left=np.nan, right=np.nan)
        moved = at.copy()
        for k in count:
            near = np.abs(course - k) < WINDOW_BARS
            if near.sum() >= FEWEST_HITS:
                vector = np.sum(weights[near] * np.exp(2j * np.pi * (course[near] - k) * parts))
                length = at[min(k + 1, at.size - 1)] - at[max(k - 1, 0)]
                moved[k] += (
                    float(np.angle(vector)) / (2 * np.pi) / parts * length / (min(k + 1, at.size - 1) - max(k - 1, 0))
                )
        at = moved
    return at.tolist()


def _parts(tempo) -> int:
    """Return into how many parts a counted beat is divided when strokes are held against it."""
    return 1 if is_compound(tempo.beats_per_bar, tempo.beat_unit) else 4


def straightened(lines: np.ndarray, tempo: Tempo, steady: TempoGuess | None) -> Tempo:
    """Return a tempo map through bar lines [seconds, shape=(lines,)]: as few tempos as keep every line within BEND_S."""
    if steady is not None:
        even = steady.first_bar_s + np.arange(lines.size) * bar_s(tempo)
        if np.max(np.abs(lines - even), initial=0.0) <= BEND_S:
            return tempo.replace(first_bar_s=round(steady.first_bar_s, 5), bpm=round(steady.bpm, 5))
    rows, start, at = {}, 0, float(lines[0])
    while start < lines.size - 1:
        stop, length = _longest(lines, start, at)
        rows[start] = {
            "bpm": round(bpm_of(length, tempo.beats_per_bar, tempo.beat_unit), 5),
            "beats_per_bar": tempo.beats_per_bar,
            "beat_unit": tempo.beat_unit,
        }
        start, at = stop, at + (stop - start) * length
    if not rows:
        return tempo.replace(first_bar_s=round(float(lines[0]), 5))
    return with_rows(tempo.replace(first_bar_s=round(float(lines[0]), 5)), rows)


def _longest(lines: np.ndarray, start: int, at: float) -> tuple[int, float]:
    """Return the last line that one tempo from ``start`` on reaches within BEND_S, and its bar length in seconds."""
    best = min(start + LEAST_BARS, lines.size - 1)
    length = (lines[best] - at) / (best - start)
    for stop in range(best + 1, lines.size):
        count = np.arange(1, stop - start + 1)
        off = lines[start + 1 : stop + 1] - at
        fitted = float(count @ off / (count @ count))
        if np.max(np.abs(off - count * fitted)) > BEND_S:
            break
        best, length = stop, fitted
    return best, float(length)
