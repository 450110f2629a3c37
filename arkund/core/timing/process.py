"""Cut between hits and slide the pieces: all mics at the same samples, with crossfades and filled gaps.

A Plan's cuts are (at, shift): from sample ``at`` of the recording on, everything sounds ``shift`` samples later, until the next
cut. A piece that moves away leaves a gap, which is filled by going on with the tail before it, read once more from as far back
as the gap is long; a piece that moves closer covers the tail before it. The crossfade lies before the cut, so attacks stay whole.
Stretching is nothing else: several small cuts within a tail, where the sound is most like itself.
"""

import bisect
import functools
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.crossfade import crossfade
from arkund.core.units import ms_to_samples

Read = Callable[[int, int], np.ndarray]
END = 1 << 60
MOST_TOGETHER = 48_000  # samples that a read may be longer than what is asked for


@dataclass(frozen=True, slots=True)
class Segment:
    """From output sample ``start`` on, the recording is heard at ``start - shift``; ``fade`` samples before it begins to come in."""

    start: int
    shift: int
    fade: int
    alike: float


def segments(cuts: Sequence, crossfade_ms: float, sample_rate_hz: int) -> list[Segment]:
    """Return the pieces of the output in order.

    The joint lies at the earlier of the two places where the old and the new piece would put the cut: before it the old piece has
    not reached the next attack, after it the new one starts with as much of the tail as the gap is long.
    """
    out = [Segment(-END, 0, 0, 1.0)]
    for cut in cuts:
        before = out[-1].shift
        if cut.shift != before:
            fade = max(int(ms_to_samples(cut.fade_ms or crossfade_ms, sample_rate_hz)), 1)
            start = max(cut.at + min(before, cut.shift), out[-1].start + 1)
            out.append(Segment(start, cut.shift, fade, cut.alike))
    return out


class Edited:
    """Reads a recording as the cuts have it; which pieces there are is worked out once for all mics."""

    def __init__(self, cuts: Sequence, crossfade_ms: float, sample_rate_hz: int) -> None:
        self._pieces = segments(cuts, crossfade_ms, sample_rate_hz)
        self._starts = [piece.start for piece in self._pieces]

    def read(self, read: Read, start: int, stop: int) -> np.ndarray:
        """Return a span of the edited recording, float32 [shape=(stop - start,)]; ``read`` gives the untouched one, silent outside of it."""
        out = np.zeros(stop - start, np.float32)
        mine = list(self._within(start, stop))
        low = min((first - piece.shift for piece, _, first, _ in mine), default=0)
        high = max((last - piece.shift for piece, _, _, last in mine), default=0)
        apart = high - low > 2 * (stop - start) + MOST_TOGETHER  # pieces from far away are read one by one
        wide = None if apart else read(low, high)
        for piece, after, first, last in mine:
            place = first - piece.shift, last - piece.shift
            part = read(*place) if wide is None else wide[place[0] - low : place[1] - low]
            out[first - start : last - start] += self._faded(part, piece, after, first, last)
        return out

    def _within(self, start: int, stop: int) -> Iterator[tuple[Segment, Segment | None, int, int]]:
        """Yield the pieces that are heard in a span, each with the one after it and its first and last sample there, its fade included."""
        pieces = self._pieces
        for number in range(max(bisect.bisect_right(self._starts, start) - 1, 0), len(pieces)):
            piece, after = pieces[number], pieces[number + 1] if number + 1 < len(pieces) else None
            low, high = max(piece.start - piece.fade, start), min(after.start if after else END, stop)
            if low >= stop:
                return
            if high > low:
                yield piece, after, low, high

    @staticmethod
    def _faded(part: np.ndarray, piece: Segment, after: Segment | None, low: int, high: int) -> np.ndarray:
        comes, goes = piece.start > low, after is not None and after.start - after.fade < high
        if not (comes or goes):
            return part
        part = part.copy()
        if comes:
            some, begin = min(piece.start, high) - low, low - piece.start + piece.fade
            part[:some] *= _curves(piece.fade, piece.alike)[0][begin : begin + some]
        if goes:
            begin = after.start - after.fade
            first = max(begin, low)
            part[first - low :] *= _curves(after.fade, after.alike)[1][first - begin : high - begin]
        return part


@functools.lru_cache(maxsize=4096)
def _curves(length: int, alike: float) -> tuple[np.ndarray, np.ndarray]:
    """Return a whole crossfade, because every mic asks for the same ones."""
    return crossfade(np.arange(length), length, alike)


def moved_sample(cuts: Sequence, at: int) -> int:
    """Return where a sample of the recording is heard after the edits."""
    number = bisect.bisect_right(cuts, at, key=lambda cut: cut.at)
    return at + (cuts[number - 1].shift if number else 0)


def recorded_sample(cuts: Sequence, at: int) -> int:
    """Return which sample of the recording is heard at a sample of the song; within a gap that was filled, the last one before it."""
    number = len(cuts)
    while number and cuts[number - 1].at + cuts[number - 1].shift > at:
        number -= 1
    found = at - (cuts[number - 1].shift if number else 0)
    return min(found, cuts[number].at - 1) if number < len(cuts) else found
