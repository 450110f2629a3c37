"""How much of what a figure misses is corrected at a time."""

from collections.abc import Mapping

# Of a correction: after one that went too far, after any other; below which it is not tried.
LESS, MORE, LEAST = 0.5, 1.3, 0.1
# Of one that gave less than SLOW of what was asked; with more than that, what is good for one figure spoils others.
MOST, SLOW = 1.5, 0.6


class Shares:
    """A share for each figure: less after each time that went too far, more after others, more than all of it where little came of that."""

    def __init__(self) -> None:
        self._shares: dict[str, float] = {}
        self._last: dict[str, float] = {}

    def of(self, missed: Mapping[str, float]) -> dict[str, float]:
        """Return what is corrected now, of what figures miss by, in dB; the same figures are told round by round."""
        for key, by in missed.items():
            self._shares[key] = self._next(self._shares.get(key, 1.0), self._last.get(key, 0.0), by)
        self._last = dict(missed)
        return {key: self._shares[key] * by for key, by in missed.items() if self._shares[key] >= LEAST}

    @staticmethod
    def _next(share: float, last: float, by: float) -> float:
        """Return the next share of a figure that missed by ``last``, of which that share was corrected, and now misses by ``by``."""
        if last * by < 0.0:
            return share * LESS
        if last and (last - by) / (share * last) < SLOW:
            return min(share * MOST, MOST)
        return max(share, min(share * MORE, 1.0))
