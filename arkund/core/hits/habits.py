"""The player's habits: what the strokes around a candidate, and those a bar before and after it, lead one to expect in its place.

Music repeats itself. A soft stroke under a loud one is told less by what is heard than by the row it stands in, by the bar before, and by whether this
piece is usually struck together with what else sounds there. Habits only weigh in with what the mics heard: the judge's trees see both.
"""

import numpy as np
from scipy.fft import irfft, rfft
from scipy.ndimage import maximum_filter1d, median_filter

from arkund.core.hits.bands import FRAMES_PER_S

NOT_THERE = -99.0  # of a measure that cannot be taken; below what a place can lie beside its row
AROUND = 6  # strokes to each side, whose usual distance is a row's step
ROW = (-3, -2, -1, 1, 2, 3)  # steps away, where a row's other strokes are looked for
NEAR_STEP, NEAR_FRAMES = 0.15, 10.0  # of a step, and at least so many frames: a stroke that near stands in its place
SAME_FRAMES = 12.0  # a stroke this near is the candidate itself
FEWEST = 4  # strokes of a row

BIN = 5  # frames: how finely repetition is looked for
BLUR = np.array([1, 2, 3, 2, 1]) / 3.0
LOOSE = 5  # bins around a place in which a repeated stroke counts
WINDOW_S, HOP_S = 12.0, 4.0
SHORT_S, LONG_S = (0.25, 1.2), (1.2, 5.0)  # a beat or two; a bar or two

WITH_FRAMES = 20  # another piece this near is struck with it

# What is measured, by column: the row's step, how sure its strokes are, and how far (before, after, in the middle) they lie from where the row has them;
# one and two short and long delays before and after, with the likeness; in what share of like places it is struck, and how many there are.
STEP, NEIGHBOURS, OFF, SHORT, LONG, SHARE, PLACES = (
    0, slice(1, 7), slice(7, 10), slice(10, 15), slice(15, 20), 20, 21,
)  # fmt: skip
MEASURES = 22


def expected(
    frames: np.ndarray, pieces: np.ndarray, sure: np.ndarray, kept: np.ndarray, asked: np.ndarray, count: int
) -> np.ndarray:
    """Return MEASURES of what the likely strokes lead one to expect at the candidates asked about [float32, shape=(asked, MEASURES)].

    frames, pieces, sure (0..1), kept (bool: a likely stroke) : one value per candidate, in order of time; asked : their numbers; count : pieces
    """
    out = np.full((asked.size, MEASURES), NOT_THERE, np.float32)
    if frames.size == 0:
        return out
    played = [frames[kept & (pieces == piece)] for piece in range(count)]
    sures = [sure[kept & (pieces == piece)] for piece in range(count)]
    repeats = _Repeats(played, sures, int(frames[-1]))
    for piece in range(count):
        mine = np.flatnonzero(pieces[asked] == piece)
        at = frames[asked[mine]]
        out[mine] = np.hstack(
            [_row(at, played[piece], sures[piece]), repeats.measures(at, piece), _along(at, piece, played)]
        )
    return out


def _row(at: np.ndarray, strokes: np.ndarray, sures: np.ndarray) -> np.ndarray:
    """Return the step of the row around each place, how sure its neighbours are, and how far they lie from where the row has them."""
    out = np.full((at.size, OFF.stop), NOT_THERE)
    if strokes.size < FEWEST:
        return out
    steps = np.diff(strokes).astype(np.float64)
    usual = median_filter(steps, 2 * AROUND + 1, mode="nearest")
    step = usual[np.clip(np.searchsorted(strokes, at) - 1, 0, steps.size - 1)]
    out[:, STEP] = step
    near = np.maximum(NEAR_STEP * step, NEAR_FRAMES)
    away = {}
    for column, k in enumerate(ROW, start=NEIGHBOURS.start):
        away[k], neighbour = _nearest(at, at + k * step, strokes)
        out[:, column] = np.where(np.abs(away[k]) <= near, sures[neighbour], 0.0)
    before, after = (np.where(np.abs(away[k]) <= near, away[k], np.nan) for k in (-1, 1))
    out[:, OFF] = np.nan_to_num(np.stack([before, after, (before + after) / 2], axis=1), nan=NOT_THERE)
    return out


def _nearest(at: np.ndarray, place: np.ndarray, strokes: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return how far the stroke nearest to each place lies from it [frames] and its number; a stroke at the candidate itself is passed over."""
    best = np.full(at.size, 1e9)
    number = np.zeros(at.size, np.int64)
    first = np.searchsorted(strokes, place)
    for shift in (-2, -1, 0, 1):
        k = np.clip(first + shift, 0, strokes.size - 1)
        away = np.where(np.abs(strokes[k] - at) <= SAME_FRAMES, 1e9, strokes[k] - place)
        nearer = np.abs(away) < np.abs(best)
        best, number = np.where(nearer, away, best), np.where(nearer, k, number)
    return best, number


class _Repeats:
    """How the playing repeats itself: per stretch of the song the two delays, about a beat and about a bar, at which it is most like itself."""

    def __init__(self, played: list[np.ndarray], sures: list[np.ndarray], last: int) -> None:
        self.activity = np.zeros((len(played), last // BIN + BLUR.size))
        for row, strokes, sure in zip(self.activity, played, sures, strict=True):
            np.maximum.at(row, strokes // BIN, sure)
            row[:] = np.convolve(row, BLUR, "same")
        self.loose = maximum_filter1d(self.activity, LOOSE, axis=1)
        self.delays = [self._delays(start) for start in range(0, self.activity.shape[1], self._bins(HOP_S))]

    @staticmethod
    def _bins(seconds: float) -> int:
        return round(seconds * FRAMES_PER_S / BIN)

    def _delays(self, start: int) -> list[tuple[int, float]]:
        """Return (delay in bins, likeness 0..1) for SHORT_S and LONG_S, in the window around HOP_S from a bin on."""
        middle, half = start + self._bins(HOP_S) // 2, self._bins(WINDOW_S) // 2
        part = self.activity[:, max(middle - half, 0) : middle + half]
        size = part.shape[1]
        product = irfft((np.abs(rfft(part, 2 * size, axis=1)) ** 2).sum(axis=0), 2 * size)[:size]
        energy = np.concatenate([[0.0], np.cumsum((part**2).sum(axis=0))])
        delay = np.arange(size)
        likeness = product / np.sqrt(energy[size - delay] * (energy[-1] - energy[delay]) + 1e-9)
        out = []
        for low_s, high_s in (SHORT_S, LONG_S):
            low, high = self._bins(low_s), min(self._bins(high_s), 3 * size // 4)
            best = low + int(np.argmax(likeness[low:high])) if high > low else 0
            out.append((best, float(likeness[best]) if best else 0.0))
        return out

    def measures(self, at: np.ndarray, piece: int) -> np.ndarray:
        """Return for both delays how sure this piece is struck one and two of them before and after each place, and the likeness."""
        place, window = at // BIN, at // (BIN * self._bins(HOP_S))
        out = []
        for which in range(2):
            delay, likeness = (np.array([each[which][k] for each in self.delays])[window] for k in range(2))
            for times in (-2, -1, 1, 2):
                there = (place + times * delay).astype(np.int64)
                inside = (there >= 0) & (there < self.loose.shape[1])
                out.append(np.where(inside, self.loose[piece, np.where(inside, there, 0)], NOT_THERE))
            out.append(likeness)
        return np.stack(out, axis=1)


def _along(at: np.ndarray, piece: int, played: list[np.ndarray]) -> np.ndarray:
    """Return in what share of the other places where the same pieces sound this one is struck too, and how many such places there are."""
    others = [strokes for k, strokes in enumerate(played) if k != piece]
    everywhere = np.concatenate([*others, np.zeros(0, np.int64)])
    marks, which = np.unique(np.concatenate([_company(everywhere, others), _company(at, others)]), return_inverse=True)
    there, here = which[: everywhere.size], which[everywhere.size :]
    count = np.bincount(there, minlength=marks.size)
    struck = np.bincount(there, weights=_struck(everywhere, played[piece]), minlength=marks.size)
    own = np.array([int(mark).bit_count() for mark in marks])[
        here
    ]  # each piece that sounds there counts the place once
    left = count[here] - own
    share = (struck[here] - own * _struck(at, played[piece])) / np.maximum(left, 1)
    known = (own > 0) & (left > 0)
    return np.stack([np.where(known, share, NOT_THERE), np.where(known, left, 0)], axis=1)


def _company(at: np.ndarray, others: list[np.ndarray]) -> np.ndarray:
    """Return for each place which of the others sound there, a bit for each."""
    out = np.zeros(at.size, np.int64)
    for k, strokes in enumerate(others):
        out |= _struck(at, strokes).astype(np.int64) << k
    return out


def _struck(at: np.ndarray, strokes: np.ndarray) -> np.ndarray:
    return np.searchsorted(strokes, at + WITH_FRAMES, "right") > np.searchsorted(strokes, at - WITH_FRAMES)
