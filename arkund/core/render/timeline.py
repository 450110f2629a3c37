"""Where settings change over the song, for sums whose gains change with them: pieces in which they stay, and pieces in which one fades into the next."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

Piece = tuple[int, int, int, int | None]  # first sample, the one after the last, which part holds, into which it fades


@dataclass(frozen=True, slots=True)
class Timeline:
    """Changes in order: (sample from which the next part alone holds, samples before that in which it comes)."""

    changes: tuple[tuple[int, int], ...] = ()

    def pieces(self, start: int, stop: int) -> Iterator[Piece]:
        """Yield a span in pieces of one part, or of one that fades into the next."""
        for number, (at, fade) in enumerate(self.changes):
            if start < min(at - fade, stop):
                yield start, min(at - fade, stop), number, None
                start = min(at - fade, stop)
            if start < min(at, stop):
                yield start, min(at, stop), number, number + 1
                start = min(at, stop)
        if start < stop:
            yield start, stop, len(self.changes), None

    def at(self, start: int) -> tuple[int, int | None]:
        """Return which part holds at a sample, and into which it fades."""
        *_, part, into = next(self.pieces(start, start + 1))
        return part, into

    def edges(self) -> Sequence[int]:
        """Return where pieces meet."""
        return [edge for at, fade in self.changes for edge in (at - fade, at)]

    def span_of(self, part: int) -> tuple[int, int]:
        """Return where a part is heard at all."""
        first = self.changes[part - 1][0] - self.changes[part - 1][1] if part else -(1 << 62)
        return first, self.changes[part][0] if part < len(self.changes) else 1 << 62

    def rising(self, start: int, stop: int, into: int) -> np.ndarray:
        """Return the gain of the part that comes, over a piece of its fade, float32 [shape=(samples,)]: a raised cosine.

        It and its complement add up to one, because what fades into each other is the same sound with other settings.
        """
        at, fade = self.changes[into - 1]
        done = (np.arange(start, stop) - (at - fade) + 0.5) / fade
        return (0.5 - 0.5 * np.cos(np.pi * done)).astype(np.float32)
