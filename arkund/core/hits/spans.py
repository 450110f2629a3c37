"""The parts of a song that a kit is judged by: where most is played, and where least of what is still playing is."""

from collections.abc import Sequence

import numpy as np

SPAN_S = 16.0
LEAD_S, TAIL_S = 0.3, 0.5  # before the first hit of a span, and after the last that counts
# Of the hits of the busiest span: what each quarter of a calm one holds at least, below which hardly anybody plays, and all of it at most.
CALM_SHARE, CALMER, QUARTERS = 0.4, 0.85, 4

Span = tuple[int, int]


def busiest(strong_s: Sequence[float], length: int, sample_rate_hz: int) -> Span:
    """Return the part of a song, SPAN_S long, that holds most strong hits; the beginning where there are none, all of a shorter song.

    strong_s : times of hits that are no ghosts, in s; length : of the song, in samples
    """
    size = int(SPAN_S * sample_rate_hz)
    times = np.sort(np.asarray(strong_s, float))
    if not times.size or length <= size:
        return 0, min(size, length)
    return _from(times[int(np.argmax(_counts(times)))], length, sample_rate_hz)


def calmest(strong_s: Sequence[float], length: int, sample_rate_hz: int) -> Span | None:
    """Return the part, SPAN_S long and apart from the busiest, that holds fewest strong hits while it is still played; None where there is none.

    strong_s : times of hits that are no ghosts, in s; length : of the song, in samples
    """
    size = int(SPAN_S * sample_rate_hz)
    times = np.sort(np.asarray(strong_s, float))
    if not times.size or length <= 2 * size:
        return None
    busy = busiest(times, length, sample_rate_hz)
    begins = np.array([_from(t, length, sample_rate_hz)[0] for t in times])
    apart = (begins + size <= busy[0]) | (begins >= busy[1])
    # A span counts as played where each of its quarters is.
    edges = begins[:, None] / sample_rate_hz + SPAN_S * np.arange(QUARTERS + 1) / QUARTERS
    held = np.diff(np.searchsorted(times, edges), axis=1)
    most = int(np.diff(np.searchsorted(times, np.array(busy) / sample_rate_hz))[0])
    played = held.min(axis=1) >= CALM_SHARE * most / QUARTERS
    there = np.flatnonzero(apart & played & (held.sum(axis=1) <= CALMER * most))
    return _from(times[there[int(np.argmin(held[there].sum(axis=1)))]], length, sample_rate_hz) if there.size else None


def _counts(times: np.ndarray) -> np.ndarray:
    """Return how many hits a span holds that begins at each of them."""
    return np.searchsorted(times, times + SPAN_S - TAIL_S) - np.arange(times.size)


def _from(time_s: float, length: int, rate: int) -> Span:
    size = int(SPAN_S * rate)
    start = min(max(int((time_s - LEAD_S) * rate), 0), length - size)
    return start, start + size
