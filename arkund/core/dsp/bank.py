"""Several channels in lock-step: the checked door to the compiled kernels.

A *bank* is audio as float32 [shape=(samples, width)]: channels side by side, unused lanes silent. The width is one of few, for
which the kernels are made.
"""

import threading
from collections.abc import Iterable, Sequence

import numpy as np

from arkund.core.dsp import _filters, _mixing
from arkund.core.dsp.compiled import BLOCK, LINE, NARROW, PAIR, WIDE, WIDTHS
from arkund.core.dsp.filters import Biquad
from arkund.core.errors import AudioError

__all__ = [
    "BLOCK",
    "NARROW",
    "PAIR",
    "WIDE",
    "WIDTHS",
]  # silence of whole BLOCKs before a channel leaves its samples as they are


MOST_BORROWED, MOST_ROOMS = 1 << 24, 4  # values that room is kept for, and how often
_rooms: list[np.ndarray] = []
_lock = threading.Lock()


def empty_bank(samples: int, count: int) -> np.ndarray:
    """Return a silent bank that is wide enough for ``count`` channels."""
    bank = fresh(samples, width_for(count))
    bank.fill(0.0)
    return bank


def fresh(samples: int, width: int) -> np.ndarray:
    """Return a bank [float32, shape=(samples, width)] of any content that begins with a line of the processor's cache.

    A row of sixteen lanes that lies across two lines takes twice as long to read: a loop that does little else lost a sixth.
    """
    return _in_line(np.empty(samples * width + LINE, np.float32), samples, width)


def _in_line(room: np.ndarray, samples: int, width: int) -> np.ndarray:
    first = -(room.ctypes.data // 4) % LINE
    return room[first : first + samples * width].reshape(samples, width)


def width_for(count: int) -> int:
    """Return the width of a bank for ``count`` channels."""
    if not 1 <= count <= WIDE:
        raise AudioError(f"A bank holds 1 to {WIDE} channels, got {count}.")
    return next(width for width in WIDTHS if width >= count)


def bank_of(channels: Sequence[np.ndarray], late: Sequence[int] = ()) -> np.ndarray:
    """Return channels [each shape=(samples,)] side by side as a bank, each beginning some samples after the bank does; without ``late`` at once."""
    samples = max(count + len(row) for count, row in zip(late or [0] * len(channels), channels, strict=True))
    bank = fresh(samples, width_for(len(channels)))
    fill(bank, channels, late)
    return bank


def fill(bank: np.ndarray, channels: Sequence[np.ndarray], late: Sequence[int] = ()) -> None:
    """Write channels [each shape=(samples,)] side by side into a bank of any content, as ``bank_of`` would; all else becomes silent."""
    rows, late = [np.ascontiguousarray(channel, np.float32) for channel in channels], late or [0] * len(channels)
    if len(rows) < bank.shape[1] or any(row.size < bank.shape[0] for row in rows):
        bank.fill(0.0)
    _mixing.turn(bank.reshape(-1), bank.shape[1], len(rows), widened(rows), widened(late), False)


def borrowed(samples: int, width: int) -> np.ndarray:
    """Return room for a bank [float32, shape=(samples, width), of any content], to be handed to ``returned`` when it is done with: what is worked on for a
    moment costs no fresh memory.
    """
    values = samples * width + LINE
    with _lock:  # the smallest that is large enough; they are in order
        place = next((k for k, room in enumerate(_rooms) if room.size >= values), None)
        room = np.empty(values, np.float32) if place is None else _rooms.pop(place)
    return _in_line(room, samples, width)


def returned(bank: np.ndarray) -> None:
    """Take back what was borrowed: the largest few are kept."""
    if bank.size <= MOST_BORROWED:
        with _lock:
            _rooms.append(bank.base)
            _rooms.sort(key=lambda each: each.size)
            del _rooms[:-MOST_ROOMS]


def separate(bank: np.ndarray, rows: Sequence[np.ndarray], late: Sequence[int]) -> None:
    """Write lanes of a bank into channels of their own, each beginning some samples after the bank does."""
    _mixing.turn(bank.reshape(-1), bank.shape[1], len(rows), widened(rows), widened(late), True)


def pair(bank: np.ndarray, number: int) -> np.ndarray:
    """Return two neighbouring lanes as a view of complex values [shape=(samples,)], because NumPy copies those several times as fast as rows of two."""
    return bank.view(np.complex64)[:, number]


def interleaved(sides: Sequence[np.ndarray]) -> np.ndarray:
    """Return two sides [each float32, shape=(samples,)] as they are played [shape=(samples, 2)]; complex values are copied faster than rows of two."""
    both = np.empty(sides[0].size, np.complex64)
    both.real, both.imag = sides
    return both.view(np.float32).reshape(-1, 2)


def widened(values: Sequence) -> tuple:
    """Return values, one for each channel, filled up to WIDE of them: kernels are made for one number of rows."""
    return (*values, *(values[0] for _ in range(WIDE - len(values))))


def coefficient(time_ms: float, sample_rate_hz: int) -> float:
    """Return exp(-1 / (time * rate)): a one-pole follower covers 63 % of a step in time_ms."""
    return float(np.exp(-1000.0 / (max(time_ms, 1e-3) * sample_rate_hz)))


def lanes(rows: Iterable[Sequence[float]], width: int) -> np.ndarray:
    """Return parameter rows, one value per channel, padded to the bank's width and flat as the kernels want them."""
    given = np.array(list(rows), np.float32)
    out = np.zeros((given.shape[0], width), np.float32)
    out[:, : given.shape[1]] = given
    return out.reshape(-1)


class Filters:
    """Cascades of sections, one per channel in use, that keep their state from block to block; shorter ones end in straight wires."""

    def __init__(self, cascades: Sequence[Sequence[Biquad]], width: int) -> None:
        self.depth = max((len(cascade) for cascade in cascades), default=0)
        params = np.zeros((self.depth, 6, width), np.float32)
        params[:] = np.array((-1.0, 0.5, 0.25, 1.0, 0.0, 0.0), np.float32)[None, :, None]
        for lane, cascade in enumerate(cascades):
            for place, section in enumerate(cascade):
                params[place, :, lane] = section.state_variable()
        self.params = params.reshape(-1)
        self.state = np.zeros(self.depth * 2 * width, np.float32)

    def run(self, bank: np.ndarray) -> None:
        """Filter a bank [shape=(samples, width), contiguous] in place."""
        if self.depth:
            _filters.BANKS[bank.shape[1]].svf_cascade(bank.reshape(-1), self.depth, self.params, self.state)


def filter_bank(bank: np.ndarray, cascades: Sequence[Sequence[Biquad]]) -> np.ndarray:
    """Return a bank [float32, shape=(samples, width)] with each channel through its own cascade from rest, as a new array."""
    out = np.array(bank, np.float32, order="C")
    Filters(cascades, out.shape[1]).run(out)
    return out
