"""Strokes of a cymbal that keeps time, where bleed hides one of a steady row: the place tells what its level does not."""

from collections import Counter

import numpy as np

from arkund.core.hits.bands import FRAMES_PER_S
from arkund.core.hits.evidence import Scene, family

AROUND = 6  # strokes to each side, whose usual distance is the row's step
MOST_MISSING = 2  # strokes in one gap
OFF = 0.14  # of a step, by which a place may miss the middle of its gap
NEAR_S = 0.01  # of its place a faint stroke counts
WITH_S = 0.02  # another piece this near is struck with it
PLAYED_ALONG = 0.5  # of a companion's strokes: heard with so many, the cymbal is thought to be struck with all
LEAST_SURE = 0.02
LEAST_STROKES = 8
SURE_IN_ROW = 0.65  # as often what closes a gap was a stroke, over six surveys
TIMES = 2  # over the row: what was found the first time makes it clearer


def continued(s: Scene, sure: np.ndarray, kept: np.ndarray) -> np.ndarray:
    """Return how sure each candidate is when gaps of a steady row are closed by what is faintly heard in them.

    A gap is closed only where the cymbal is otherwise struck together with whatever else sounds there (or alone, where nothing does), so that a player
    who leaves it out on the backbeat is not corrected. sure, kept : for each candidate, as judged, and which of them stand
    """
    out, stands = sure.copy(), kept.copy()
    times = s.frames / FRAMES_PER_S
    for number, piece in enumerate(s.names):
        if family(piece) == "cymbal":
            mine = s.pieces == number
            others = [np.sort(times[(s.pieces == k) & kept]) for k in range(len(s.names)) if k != number]
            for _ in range(TIMES):
                faint = np.flatnonzero(mine & ~stands & (sure >= LEAST_SURE))
                closing = faint[_closing(times[faint], sure[faint], np.sort(times[mine & stands]), others)]
                stands[closing] = True
                out[closing] = np.maximum(out[closing], SURE_IN_ROW)
    return out


def _closing(times: np.ndarray, sure: np.ndarray, strokes: np.ndarray, others: list[np.ndarray]) -> np.ndarray:
    """Return the numbers of the faint candidates that close the gaps of a row of strokes; times [seconds] and sure are the candidates'."""
    places, out = _gaps(strokes) if strokes.size >= LEAST_STROKES else np.zeros(0), []
    missing = _companions(places, others)
    along, left_out = Counter(_companions(strokes, others)), Counter(missing)
    for place, companion in zip(places, missing, strict=True):
        near = np.flatnonzero(np.abs(times - place) <= NEAR_S)
        played = along[companion] / (along[companion] + left_out[companion])
        if near.size and played >= PLAYED_ALONG:
            out.append(near[np.argmax(sure[near])])
    return np.array(out, np.int64)


def _gaps(strokes: np.ndarray) -> np.ndarray:
    """Return where strokes of a steady row are missing [seconds]."""
    steps, out = np.diff(strokes), []
    for k, gap in enumerate(steps):
        usual = float(np.median(steps[max(k - AROUND, 0) : k + AROUND + 1]))
        count = round(gap / usual)
        if 2 <= count <= MOST_MISSING + 1 and abs(gap - count * usual) <= 2 * OFF * usual:
            out += [strokes[k] + gap * part / count for part in range(1, count)]
    return np.array(out)


def _companions(times: np.ndarray, others: list[np.ndarray]) -> list[bytes]:
    """Return for each time which other pieces are struck with it, as a mark that is the same for the same pieces."""
    struck = np.zeros((times.size, len(others)), bool)
    for k, each in enumerate(others):
        low = np.searchsorted(each, times - WITH_S)
        struck[:, k] = np.searchsorted(each, times + WITH_S, "right") > low
    return [row.tobytes() for row in struck]
