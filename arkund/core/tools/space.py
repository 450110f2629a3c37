"""Space: a room around a strip, from a feedback delay network whose decay is what is set."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from arkund.core.dsp.bank import Filters
from arkund.core.dsp.filters import HIGHEST_HZ, LOWEST_HZ, Biquad, band
from arkund.core.dsp.reach import Reach, of_cascades, of_follower
from arkund.core.settings import number
from arkund.core.tools import _space
from arkund.core.tools._space import LINES, STEP
from arkund.core.tools.tool import Tool, kind
from arkund.core.units import db_to_gain, gain_to_db, ms_to_samples

SOUND_M_S = 343.0  # at 20 degrees C
TO_60_DB = 6.9078  # time constants in which an amplitude falls by 60 dB
SPREAD = 1.9  # the longest line against the shortest
# How large a room is for each second of its decay: in a smaller one single tones ring on, a larger one is over after a few reflections.
LEAST_M_PER_S, MOST_M_PER_S = 8.0, 32.0
FIRST = 0.5  # of what would be heard before the shortest line's end: all of it rings on in the diffusers
DIFFUSERS_MS = (4.77, 3.59, 12.73, 9.31)  # at a size of 10 m
MOST_DIFFUSION = 0.75
LONGEST_DIFFUSER = 1 << 12
SPARE = 1 << 12  # samples that lines are written on before all is moved to their beginning
TAKES = np.array([[1, 0], [0, 1], [-1, 0], [0, -1]] * 4, np.float32).T / np.float32(
    8.0**0.5
)  # of left and right, line by line
GIVES_LEFT = np.array([1, 1, 1, 1, -1, -1, -1, -1, 1, 1, 1, 1, -1, -1, -1, -1], np.float32) / np.float32(4.0)
GIVES_RIGHT = np.array([1, -1, 1, -1, 1, -1, 1, -1, -1, 1, -1, 1, -1, 1, -1, 1], np.float32) / np.float32(4.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Space(Tool):
    """A room: how long it rings, how large it is, how much of it is heard."""

    kind: str = kind("space")
    pre_delay_ms: float = number(10.0, 0.0, 200.0, step=1.0, unit="ms", help="before the first of the room is heard")
    decay_s: float = number(0.8, 0.1, 6.0, step=0.05, unit="s", help="to fall by 60 dB, between lows and highs")
    lows: float = number(1.0, 0.3, 2.0, step=0.05, help="decay of the lows against that")
    lows_below_hz: float = number(250.0, 60.0, 1000.0, step=5.0, unit="Hz", help="half way from one to the other")
    highs: float = number(0.5, 0.1, 1.0, step=0.05, help="decay of the highs against that")
    highs_above_hz: float = number(
        4000.0, 1000.0, 16000.0, step=100.0, unit="Hz", help="half way from one to the other"
    )
    size_m: float = number(
        10.0,
        3.0,
        30.0,
        step=0.5,
        unit="m",
        help="size of the room, which spaces its reflections; limited to 8 to 32 m per second of decay",
    )
    density: float = number(0.8, 0.0, 1.0, step=0.05, help="how soon single reflections are no longer heard")
    width: float = number(1.0, 0.0, 1.0, step=0.05, help="0 = the same left and right")
    low_cut_hz: float = number(
        LOWEST_HZ, LOWEST_HZ, 1000.0, step=1.0, unit="Hz", help="nothing below goes in; 20 = all does"
    )
    high_cut_hz: float = number(
        HIGHEST_HZ, 1000.0, HIGHEST_HZ, step=100.0, unit="Hz", help="nothing above goes in; 20000 = all does"
    )
    share: float = number(1.0, 0.0, 1.0, step=0.01, help="of the room in what leaves; 1 = nothing else, as in a path")
    output_db: float = number(0.0, -24.0, 24.0, step=0.1, unit="dB", help="level of the room")

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what it must have heard before a span: until the slowest part of it has died away."""
        early = (
            round(ms_to_samples(self.pre_delay_ms, sample_rate_hz)) + int(lengths(self, sample_rate_hz).max()) + STEP
        )
        ring = of_follower(1000.0 * self.slowest_s / TO_60_DB, sample_rate_hz)
        return of_cascades([_cuts(self, sample_rate_hz)]) + Reach(early + len(DIFFUSERS_MS) * LONGEST_DIFFUSER) + ring

    @property
    def sized_m(self) -> float:
        """The size that counts: one that its decay allows."""
        return min(max(self.size_m, LEAST_M_PER_S * self.decay_s), MOST_M_PER_S * self.decay_s)

    def rings_s(self) -> float:
        """Return how long it goes on when nothing comes in any more, until it is 60 dB down."""
        return self.pre_delay_ms / 1000.0 + self.slowest_s

    @property
    def slowest_s(self) -> float:
        """The longest decay of all frequencies."""
        return self.decay_s * max(1.0, self.lows)


SETTINGS = Space


@lru_cache(maxsize=256)
def _lengths(size_m: float, rate: int) -> tuple[int, ...]:
    mean = 2.0 / 3.0 * size_m / SOUND_M_S * rate  # a cube's mean way between two walls is two thirds of its side
    wanted = mean * SPREAD ** np.linspace(-0.5, 0.5, LINES)
    out: list[int] = []
    for each in wanted:
        length = max(round(each), STEP + 1)
        while any(np.gcd(length, other) > 1 for other in out):  # no two lines fall into step
            length += 1
        out.append(length)
    return tuple(out)


def lengths(space: Space, sample_rate_hz: int) -> np.ndarray:
    """Return the lengths of the lines in samples, int [shape=(LINES,)], none with a common divisor."""
    return np.array(_lengths(space.sized_m, sample_rate_hz), np.int64)


def _cuts(space: Space, rate: int) -> tuple[Biquad, ...]:
    return band(space.low_cut_hz, space.high_cut_hz, 2, rate)


def _damping(space: Space, rate: int) -> np.ndarray:
    """Return for each line its gain, and of two first-order shelves what they weigh and their poles [shape=(5, LINES)].

    After J.-M. Jot and A. Chaigne, Digital delay networks for designing artificial reverberators (AES 90th Convention, 1991): each line loses in dB what
    its length takes of the decay. A shelf by G has half its dB at its pole's frequency times the root of G, or of 1 / G.
    """
    passes_s = lengths(space, rate) / rate
    gain_db, low_db, high_db = (-60.0 * passes_s / (space.decay_s * ratio) for ratio in (1.0, space.lows, space.highs))
    low, high = db_to_gain(low_db - gain_db), db_to_gain(high_db - gain_db)
    highest = min(space.highs_above_hz, 0.4 * rate)
    low_pole, high_pole = (
        np.exp(-2.0 * np.pi * np.minimum(hz, 0.45 * rate) / rate)
        for hz in (space.lows_below_hz / np.sqrt(low), highest * np.sqrt(high))
    )
    return np.stack([db_to_gain(gain_db), low - 1.0, low_pole, high - 1.0, high_pole])


def decay_curve_s(space: Space, frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the set decay at frequencies: the time in which the lines' losses add up to 60 dB, s [shape of frequency_hz]."""
    gain, low_by, low_pole, high_by, high_pole = (row[:, None] for row in _damping(space, sample_rate_hz))
    z = np.exp(-2j * np.pi * np.asarray(frequency_hz) / sample_rate_hz)[None]
    low, high = ((1.0 - pole) / (1.0 - pole * z) for pole in (low_pole, high_pole))
    lost_db = gain_to_db(np.abs(gain * (1.0 + low_by * low) * (1.0 + high_by * (1.0 - high)))).sum(axis=0)
    return -60.0 * lengths(space, sample_rate_hz).sum() / sample_rate_hz / lost_db


class Room:
    """One strip's room, that keeps its state from block to block."""

    def __init__(self, space: Space, sample_rate_hz: int, channels: int) -> None:
        self._channels, self._lengths = channels, lengths(space, sample_rate_hz)
        longest = int(self._lengths.max())
        size = longest + SPARE
        self._lines = np.zeros(LINES * size, np.float32)
        written = longest + size * np.arange(LINES)
        self._places = np.concatenate([written - self._lengths, written])
        # What an impulse leaves adds up to its own energy: the lines' passes leave it on each side, but for what would be heard before the shortest line's
        # end; of that some is heard at once, on one side.
        shortest_s = self._lengths.min() / sample_rate_hz
        mean_s = float(np.exp(np.mean(np.log(self._lengths)))) / sample_rate_hz
        later = float(np.exp(-2.0 * TO_60_DB * shortest_s / space.decay_s))
        passes = float(np.expm1(2.0 * TO_60_DB * mean_s / space.decay_s))
        at_once = FIRST**2 * (1.0 - later)
        output = float(db_to_gain(space.output_db)) / (later + 0.5 * at_once) ** 0.5
        level, first = output * (later * passes) ** 0.5 * LINES**0.5, output * at_once**0.5
        self._first = tuple(
            np.float32(first * each)
            for each in ((0.5**0.5, 0.5**0.5) if channels == 1 else (0.5 + 0.5 * space.width, 0.5 - 0.5 * space.width))
        )
        m, s = 0.5 * (GIVES_LEFT + GIVES_RIGHT), 0.5 * space.width * (GIVES_LEFT - GIVES_RIGHT)
        gives = [GIVES_LEFT, GIVES_LEFT] if channels == 1 else [m + s, m - s]
        self._params = np.concatenate(
            [*TAKES, *(level * row for row in gives), *_damping(space, sample_rate_hz)]
        ).astype(np.float32)
        self._state = np.zeros(2 * LINES, np.float32)
        scale = space.sized_m / 10.0
        wanted = [
            min(max(round(ms_to_samples(ms * scale**0.5, sample_rate_hz)), LINES), LONGEST_DIFFUSER)
            for ms in DIFFUSERS_MS
        ]
        self._diffusers = [[(np.zeros(length + 23 * side, np.float32), 0) for length in wanted] for side in range(2)]
        self._amount = np.float32(MOST_DIFFUSION * space.density)
        self.pre_delay = round(ms_to_samples(space.pre_delay_ms, sample_rate_hz))
        self._waiting = [(np.zeros(self.pre_delay, np.float32), 0) for _ in range(2)]
        self._share = np.float32(1.0) - np.float32(space.share), np.float32(space.share)

    def run(self, given: np.ndarray, bank: np.ndarray, lane: int) -> None:
        """Put a strip of ``given`` into the room, and its share of it into a bank [both float32, shape=(samples, width)], from a lane on."""
        flat, lanes, both = given.reshape(-1), given.shape[1], []
        for side, row in enumerate(self._diffusers):
            one, (waiting, at) = np.empty(given.shape[0], np.float32), self._waiting[side]
            mine = lane + (side if self._channels == 2 else 0)
            self._waiting[side] = (waiting, _space.delayed(flat, lanes, mine, waiting, at, one))
            for k, (line, at) in enumerate(row):
                row[k] = (line, _space.diffused(one, line, at, self._amount))
            both.append(one)
        network = *both, self._lines, self._places, self._params, self._state
        _space.network(*network, bank.reshape(-1), lanes, lane, self._channels, *self._share, *self._first)


class Run:
    """Rooms of a bank's strips; lanes without one pass unchanged."""

    ahead = 0

    def __init__(self, tools: Sequence[Space | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        self._channels = 2 if linked else 1
        self._cuts = Filters([_cuts(each, sample_rate_hz) if each else () for each in tools], width)
        self._mine = [
            (lane, Room(each, sample_rate_hz, self._channels))
            for lane, each in list(enumerate(tools))[:: self._channels]
            if each is not None
        ]

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Put the first ``count`` rows of a bank [float32, shape=(samples, width)] into their rooms, in place."""
        mine = given = bank[:count]
        if self._cuts.depth:
            given = mine.copy()
            self._cuts.run(given)
        for lane, room in self._mine:
            room.run(given, mine, lane)


def oracle(x: np.ndarray, space: Space, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] in a room, sample by sample in double precision, with Hadamard's matrix as it stands in books."""
    from scipy.linalg import hadamard

    from arkund.core.tools.plain import filtered

    rate, x = sample_rate_hz, np.asarray(x, float)
    room, mean = Room(space, rate, 1), lengths(space, rate)
    take_left, take_right, give, _, gain, low_by, low_pole, high_by, high_pole = room._params.astype(float).reshape(
        9, LINES
    )
    given = np.concatenate([np.zeros(room.pre_delay), filtered(x, _cuts(space, rate))])[: x.size]
    into = [given.copy(), given.copy()]
    for side, row in enumerate(room._diffusers):
        for line, _ in row:
            kept = np.zeros(line.size)
            for i in range(x.size):
                behind = kept[i % kept.size]
                kept[i % kept.size] = into[side][i] - room._amount * behind
                into[side][i] = behind + room._amount * kept[i % kept.size]
    matrix, lines = hadamard(LINES) / 4.0, np.zeros((LINES, int(mean.max()) + x.size + 1))
    low, high, out, every = np.zeros(LINES), np.zeros(LINES), np.empty(x.size), np.arange(LINES)
    for i in range(x.size):
        now = lines[every, int(mean.max()) + i - mean] * gain
        low = now + (low - now) * low_pole
        now = now + low_by * low
        high = now + (high - now) * high_pole
        now = now + high_by * (now - high)
        out[i] = give @ now + room._first[0] * into[0][i] + room._first[1] * into[1][i]
        lines[:, int(mean.max()) + i] = matrix @ now + take_left * into[0][i] + take_right * into[1][i]
    return (1.0 - space.share) * x + space.share * out
