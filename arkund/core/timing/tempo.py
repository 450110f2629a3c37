"""The tempo map that explains the hits: tempo, first bar, and where the tempo changes, with its doubt."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.plan.plan import Tempo
from arkund.core.timing.bars import bar_s, bars_of, beat_s, bpm_of, is_compound, with_rows

SLOWEST_BPM, FASTEST_BPM = 55.0, 210.0
USUAL_BPM = 115.0
BACKBEAT_BEATS = 2.0
CLEAR = 1.25  # the best tempo's score against the best unrelated one
FEWEST_HITS = 8
WINDOW_HITS = 48  # in which the phase must hold
TEMPOS_AT_ONCE = 64
FIRST_BEAT_VOTES = (("kick", 1.0), ("crash", 1.5), ("snare", -0.8))
HOLDS = 0.55  # length of the mean phase vector in a window: below it the tempo no longer explains the hits
WINDOW_BARS = 2  # to each side of a bar, when its line is looked for
BEND_S = 0.008  # a bar line this far from a steady tempo makes a change of tempo
BEND_TOLD_MS = 5.0
NEAR = 0.3  # of a sixteenth: strokes nearer to the grid count in the fit
LEAST_BARS = 2  # of one tempo
MOST_BEND = 0.04  # of a bar, by which the first bars may differ from the song's tempo
CLEARLY = 0.1  # better in agreement
MOST_STEP_S = 0.02  # from bar to bar; what is more is another tempo
STRETCH_S = 24.0  # in which a tempo is sought anew


@dataclass(frozen=True, slots=True)
class TempoGuess:
    """An estimated tempo: score 0-1 (1 = every hit on the grid) and whether it stands clear of others."""

    bpm: float
    first_bar_s: float
    score: float
    sure: bool


@dataclass(frozen=True, slots=True)
class MapGuess:
    """An estimated tempo map, as :class:`TempoGuess`; ``bend_ms`` is how far bar lines lie from a steady tempo (median absolute)."""

    tempo: Tempo
    score: float
    sure: bool
    bend_ms: float

    @property
    def words(self) -> str:
        """Return the tempo map and its doubt in a sentence."""
        count = len(self.tempo.changes)
        out = f"{self.tempo.bpm:.2f} BPM" + (f" with {count} change{'s' if count > 1 else ''}" if count else "")
        out += f" explains the hits to {self.score:.0%}"
        if self.bend_ms > BEND_TOLD_MS:
            out += f"; bar lines as played lie {self.bend_ms:.0f} ms from it"
        return out + ("." if self.sure else "; another tempo fits nearly as well, check the bar lines.")


def estimate_tempo(hits: Mapping[str, Sequence], beats_per_bar: int = 4, beat_unit: int = 4) -> TempoGuess | None:
    """Return the tempo that best explains the hits, or None with fewer than eight.

    The score of a tempo is the length of the mean phase vector of all hits on a sixteenth grid, in windows, so that slow drift
    does not hide it (a Rayleigh statistic); tempos near USUAL_BPM are preferred where doubles fit as well.
    """
    rows = [(h.time_s, 10 ** (max(h.velocity - 127, -100) / 120)) for hs in hits.values() for h in hs if not h.ghost]
    if len(rows) < FEWEST_HITS:
        return None
    times, weights = np.array(sorted(rows)).T
    steps = 3 if is_compound(beats_per_bar, beat_unit) else 4
    candidates = np.arange(SLOWEST_BPM, FASTEST_BPM, 0.05)
    centre = np.log2(candidates / USUAL_BPM)
    score = _scores(times, weights, candidates, steps) * np.exp(-0.5 * (centre / 0.9) ** 2)
    backbeat_s = _backbeat_s(hits)
    if backbeat_s is not None:
        octaves = np.log2(candidates * backbeat_s / 60.0 / BACKBEAT_BEATS)
        score *= np.exp(-0.5 * (octaves / 0.6) ** 2)
    best = int(np.argmax(score))
    bpm = _fitted(hits, float(candidates[best]), steps)
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


def _fitted(hits, bpm: float, steps: int) -> float:
    """Return a tempo refined by least squares on the strokes near its grid; each piece may lie ahead or behind as a whole.

    It begins in the middle of the song and reaches further out as it gets surer, so that a small error of tempo does not miscount.
    """
    pieces = [np.array([h.time_s for h in mine if not h.ghost]) for mine in hits.values()]
    pieces = [mine for mine in pieces if mine.size]
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


def estimate_map(hits: Mapping[str, Sequence], beats_per_bar: int = 4, beat_unit: int = 4) -> MapGuess | None:
    """Return the tempo map that explains the hits, or None with too few.

    A tempo is followed bar by bar: the phase of the strokes around each bar against the grid says where its line lies. Where the lines
    leave a straight course, the tempo changes; where the phase is lost, the tempo is sought anew, and the change lies at the bar line
    where the old tempo's lines meet the new one's beats.
    """
    whole = estimate_tempo(hits, beats_per_bar, beat_unit)
    if whole is None:
        return None
    last_s = max(h.time_s for mine in hits.values() for h in mine)
    tempo = Tempo(bpm=whole.bpm, beats_per_bar=beats_per_bar, beat_unit=beat_unit, first_bar_s=whole.first_bar_s)
    lines, held, lost = _followed(hits, tempo, last_s)
    if not lost:
        found = straightened(np.array(lines), tempo, whole)
        if found.changes:
            lines = _turned(hits, lines, tempo)
            found = straightened(lines, tempo, None)
    else:
        found, lines, held = _by_stretches(hits, tempo, last_s)
    even = lines[0] + np.arange(len(lines)) * bar_s(found)
    bend = float(np.median(np.abs(np.array(lines) - even))) * 1000 if not lost else 0.0
    score = whole.score if not found.changes or not held else float(np.mean(held))
    return MapGuess(found, round(score, 3), whole.sure or bool(found.changes), round(bend, 2))


def _by_stretches(hits, tempo: Tempo, last_s: float) -> tuple[Tempo, list[float], list[float]]:
    """Return a tempo map of a song whose tempo jumps, its bar lines, and how well each is held."""
    guess = estimate_tempo(_between(hits, 0.0, STRETCH_S), tempo.beats_per_bar, tempo.beat_unit)
    now = tempo.replace(bpm=guess.bpm, first_bar_s=guess.first_bar_s) if guess else tempo
    rows: dict[int, dict] = {}
    every, held = [now.first_bar_s], []
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
    return (with_rows(first, rows) if rows else first), every, held


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
