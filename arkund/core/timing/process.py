"""Cut between hits and slide the pieces: all mics at the same samples, with crossfades and filled gaps.

A Plan's cuts are (at, shift): from sample ``at`` of the recording on, everything sounds ``shift`` samples later, until the next
cut. A piece that moves away leaves a gap, which is filled by going on with the tail before it, read once more from as far back
as the gap is long; a piece that moves closer covers the tail before it. The crossfade lies before the cut, so attacks stay whole.
Stretching is nothing else: several small cuts within a tail, where the sound is most like itself.
"""

import bisect
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.crossfade import crossfade
from arkund.core.units import ms_to_samples

Read = Callable[[int, int], np.ndarray]
END = 1 << 60


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
        pieces, number = self._pieces, bisect.bisect_right(self._starts, start) - 1
        while number < len(pieces):
            piece, after = pieces[number], pieces[number + 1] if number + 1 < len(pieces) else None
            low, high = max(piece.start - piece.fade, start), min(after.start if after else END, stop)
            if low >= stop:
                break
            if high > low:
                part = read(low - piece.shift, high - piece.shift)
                out[low - start : high - start] += self._faded(part, piece, after, low, high)
            number += 1
        return out

    @staticmethod
    def _faded(part: np.ndarray, piece: Segment, after: Segment | None, low: int, high: int) -> np.ndarray:
        comes, goes = piece.start > low, after is not None and after.start - after.fade < high
        if not (comes or goes):
            return part
        part = part.copy()
        if comes:
            some = min(piece.start, high) - low
            part[:some] *= crossfade(np.arange(low, low + some) - piece.start + piece.fade, piece.fade, piece.alike)[0]
        if goes:
            first = max(after.start - after.fade, low)
            part[first - low :] *= crossfade(
                np.arange(first, high) - after.start + after.fade, after.fade, after.alike
            )[1]
        return part


def read_edited(
    read: Read, cuts: Sequence, crossfade_ms: float, sample_rate_hz: int, start: int, stop: int
) -> np.ndarray:
    """Return a span of the edited recording, float32 [shape=(stop - start,)]: see :class:`Edited`."""
    return Edited(cuts, crossfade_ms, sample_rate_hz).read(read, start, stop)


def moved_sample(cuts: Sequence, at: int) -> int:
    """Return where a sample of the recording is heard after the edits."""
    number = bisect.bisect_right(cuts, at, key=lambda cut: cut.at)
    return at + (cuts[number - 1].shift if number else 0)
