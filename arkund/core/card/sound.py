"""A kit over a part of the song as the card's figures read it: filtered once, its power summed up once, so that any span of it is a difference."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.signal import butter

from arkund.core.dsp.bank import Filters, bank_of
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.loudness import k_weighting
from arkund.core.dsp.spectrum import power_density

STRONG = ("kick", "snare")  # whose strokes hits are, but for ghosts
CYMBALS_HZ, GHOSTS_HZ, HIGHS_HZ = 2000.0, (1000.0, 6000.0), 6000.0
ORDER = 4  # Butterworth
BLOCK = 32  # samples
Hits = Mapping[str, Sequence]


def _cascades(sample_rate_hz: int) -> dict[str, tuple[Biquad, ...]]:
    """Return the filters: as loudness is weighted (ITU-R BS.1770), above 2 kHz, from 1 to 6 kHz, above 6 kHz."""
    ways = {"bright": ("highpass", CYMBALS_HZ), "middle": ("bandpass", GHOSTS_HZ), "highs": ("highpass", HIGHS_HZ)}
    found = {"weighted": k_weighting(sample_rate_hz)}
    for name, (kind, edges) in ways.items():
        sections = butter(ORDER, edges, kind, fs=sample_rate_hz, output="sos")
        found[name] = tuple(Biquad(*row[:3], *row[4:]) for row in sections.tolist())
    return found


class Energy:
    """The power of a sound, float32 [shape=(samples, channels)], summed up from its start: by blocks, and the rest of a block from its samples."""

    def __init__(self, x: np.ndarray, sums: np.ndarray | None = None) -> None:
        self.x, self._sums = x, _block_sums(x) if sums is None else sums

    def until(self, at: np.ndarray) -> np.ndarray:
        """Return what is summed up until some samples, by channel [shape=(len(at), channels)]."""
        number, rest = np.divmod(at, BLOCK)
        inside = np.minimum(number[:, None] * BLOCK + np.arange(BLOCK), self.x.shape[0] - 1)
        squares = np.square(self.x[inside]) * (np.arange(BLOCK) < rest[:, None])[..., None]
        return self._sums[number] + squares.sum(axis=1)

    def places(self, times_s: Sequence[float], begin_ms: float, end_ms: float, rate: int) -> np.ndarray:
        """Return the first samples of spans about some times, of those that lie inside as a whole."""
        first, last = (round(ms * rate / 1000.0) for ms in (begin_ms, end_ms))
        at = np.array([round(t * rate) for t in times_s], dtype=np.int64)
        return at[(at + first >= 0) & (at + last <= self.x.shape[0])] + first

    def between(self, begins: np.ndarray, length: int) -> np.ndarray:
        """Return the mean power of spans of one length by their first samples, by channel [shape=(len(begins), channels)]."""
        return np.maximum(self.until(begins + length) - self.until(begins), 0.0) / length

    def powers(self, times_s: Sequence[float], begin_ms: float, end_ms: float, rate: int) -> np.ndarray:
        """Return the mean power of spans about some times, of those that lie inside as a whole, by channel."""
        first, last = (round(ms * rate / 1000.0) for ms in (begin_ms, end_ms))
        return self.between(self.places(times_s, begin_ms, end_ms, rate), last - first)

    def frames(self, size: int) -> np.ndarray:
        """Return the mean power of frames of so many samples, by channel."""
        return self.between(np.arange(0, self.x.shape[0] - size + 1, size), size)


def _block_sums(x: np.ndarray) -> np.ndarray:
    """Return the power summed up until each block [shape=(blocks + 1, channels)]."""
    whole = x[: x.shape[0] // BLOCK * BLOCK].reshape(-1, BLOCK, x.shape[1])
    blocks = np.einsum("ijk,ijk->ik", whole, whole)
    return np.concatenate([np.zeros((1, x.shape[1])), np.cumsum(blocks, axis=0, dtype=np.float64)])


@dataclass(frozen=True, eq=False)
class Sound:
    """A kit over a part of the song: float32 [shape=(samples, 2)], and the hits in it by piece, in s from its start (.time_s, .ghost)."""

    audio: np.ndarray
    hits: Hits
    sample_rate_hz: int

    @cached_property
    def _energies(self) -> dict[str, Energy]:
        cascades, channels = _cascades(self.sample_rate_hz), self.audio.shape[1]
        bank = bank_of([self.audio[:, k] for _ in cascades for k in range(channels)])
        Filters([cascade for cascade in cascades.values() for _ in range(channels)], bank.shape[1]).run(bank)
        sums = _block_sums(bank)
        lanes = {name: slice(n * channels, (n + 1) * channels) for n, name in enumerate(cascades)}
        return {name: Energy(bank[:, mine], sums[:, mine]) for name, mine in lanes.items()}

    @cached_property
    def whole(self) -> Energy:
        """The power of the sound, summed up."""
        return Energy(self.audio)

    def through(self, name: str) -> Energy:
        """Return the power of the sound through one of the filters, summed up."""
        return self._energies[name]

    @cached_property
    def density(self) -> np.ndarray:
        """The power by frequency: see ``power_density``."""
        return power_density(self.audio)
