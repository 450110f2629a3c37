"""Cut between hits and slide the pieces: all mics at the same samples, with crossfades and filled gaps.

A Plan's cuts are (at, shift): from sample ``at`` of the recording on, everything sounds ``shift`` samples later, until the next
cut. A piece that moves away leaves a gap, which is filled by going on with the tail before it, read once more from as far back
as the gap is long; a piece that moves closer covers the tail before it. The crossfade lies before the cut, so attacks stay whole.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.units import ms_to_samples

Read = Callable[[int, int], np.ndarray]


@dataclass(frozen=True, slots=True)
class Segment:
    """From output sample ``start`` on, the recording is heard at ``start - shift``."""

    start: int
    shift: int


def segments(cuts: Sequence) -> list[Segment]:
    """Return the pieces of the output in order.

    The joint lies at the earlier of the two places where the old and the new piece would put the cut: before it the old piece has
    not reached the next attack, after it the new one starts with as much of the tail as the gap is long.
    """
    out = [Segment(-(1 << 60), 0)]
    for cut in cuts:
        before = out[-1].shift
        if cut.shift != before:
            out.append(Segment(cut.at + min(before, cut.shift), cut.shift))
    return out


def read_edited(
    read: Read, cuts: Sequence, crossfade_ms: float, sample_rate_hz: int, start: int, stop: int
) -> np.ndarray:
    """Return a span of the edited recording, float32 [shape=(stop - start,)].

    read(start, stop) gives the untouched recording, silent outside of it. Equal-power crossfades of crossfade_ms end at each
    joint.
    """
    fade = max(int(ms_to_samples(crossfade_ms, sample_rate_hz)), 1)
    pieces = segments(cuts)
    out = np.zeros(stop - start, np.float32)
    for index, piece in enumerate(pieces):
        end = pieces[index + 1].start if index + 1 < len(pieces) else 1 << 60
        low, high = max(piece.start - fade, start), min(end, stop)
        if high <= low:
            continue
        part = read(low - piece.shift, high - piece.shift).copy()
        if index > 0:
            part *= _ramp(np.arange(low, high), piece.start - fade, fade)
        if index + 1 < len(pieces):
            part *= 1.0 - _ramp(np.arange(low, high), end - fade, fade)
        out[low - start : high - start] += part
    return out


def _ramp(at: np.ndarray, start: int, length: int) -> np.ndarray:
    """Return 0 before start, 1 after start + length, raised cosine between (tails of one recording correlate)."""
    t = np.clip((at - start + 0.5) / length, 0.0, 1.0)
    return (0.5 - 0.5 * np.cos(np.pi * t)).astype(np.float32)


def moved_sample(cuts: Sequence, at: int) -> int:
    """Return where a sample of the recording is heard after the edits."""
    shift = 0
    for cut in cuts:
        if cut.at > at:
            break
        shift = cut.shift
    return at + shift
