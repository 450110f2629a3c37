"""How much of what a figure misses is corrected at a time."""

from collections.abc import Mapping

# Of a correction: after one that went too far, after any other, and below which it is not tried.
LESS, MORE, LEAST = 0.5, 1.3, 0.1


class Shares:
    """A share for each figure: less after each time that went too far, more after others."""

    def __init__(self) -> None:
        self._shares: dict[str, float] = {}
        self._last: dict[str, float] = {}

    def of(self, missed: Mapping[str, float]) -> dict[str, float]:
        """Return what is corrected now, of what figures miss by, in dB; the same figures are told round by round."""
        for key, by in missed.items():
            too_far = self._last.get(key, 0.0) * by < 0.0
            self._shares[key] = min(self._shares.get(key, 1.0) * (LESS if too_far else MORE), 1.0)
        self._last = dict(missed)
        return {key: self._shares[key] * by for key, by in missed.items() if self._shares[key] >= LEAST}
