"""Sounds that are made instead of recorded, and laid under a drum: a sine that its strikes open, and a thump.

Where strikes come so soon that one would sound into the next, the first gives way, so that no two of them ever cancel each other.
"""

import functools
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.crossfade import cubic
from arkund.core.settings import Settings, check_strikes, choice, number, quick_hash
from arkund.core.units import db_to_gain, ms_to_samples

SORTS = ("sine", "thump")
LEVEL_DB = -12.0  # of the usual strike's peak, before the strip's trim
GIVES_WAY_MS = 4.0
ENDS_SHARE = 0.1  # of the release, in which what is left goes to nothing
EVERY = -60.0  # a least strength from which on every strike counts


@dataclass(frozen=True, slots=True, kw_only=True)
class Made(Settings):
    """What a strike opens. strikes : in order, (sample of the recording, level in dB against the usual strike), frozen when it was laid"""

    sort: str = choice("sine", SORTS)
    frequency_hz: float = number(
        50.0, 20.0, 200.0, step=0.1, unit="Hz", help="of the sine; of a thump where it falls to"
    )
    attack_ms: float = number(4.0, 0.5, 100.0, step=0.1, unit="ms", help="comes up within this, without a click")
    hold_ms: float = number(80.0, 0.0, 1000.0, step=1.0, unit="ms", help="stands this long")
    release_ms: float = number(220.0, 5.0, 2000.0, step=1.0, unit="ms", help="then falls by 60 dB within this")
    fall_octaves: float = number(0.0, 0.0, 4.0, step=0.1, unit="oct", help="begins so much higher")
    fall_ms: float = number(25.0, 1.0, 500.0, step=1.0, unit="ms", help="63 % of the fall within this")
    follow: float = number(0.0, 0.0, 1.0, step=0.05, help="0 = always the same strength, 1 = as the hit")
    least_db: float = number(
        EVERY, EVERY, 12.0, step=0.5, unit="dB", help="softer strikes, against the usual one, are left out; -60 = none"
    )
    strikes: tuple[tuple[int, float], ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        check_strikes(self.strikes)

    def __hash__(self) -> int:
        return quick_hash(self, self.strikes)


def first(sort: str, frequency_hz: float, strikes: tuple[tuple[int, float], ...]) -> Made:
    """Return how a sound of a sort usually begins."""
    if sort == "thump":
        fall = {"fall_octaves": 1.5, "fall_ms": 20.0, "attack_ms": 1.0, "hold_ms": 20.0, "release_ms": 300.0}
        return Made(sort=sort, frequency_hz=frequency_hz, strikes=strikes, **fall)
    return Made(sort=sort, frequency_hz=frequency_hz, strikes=strikes)


def read(made: Made, start: int, stop: int, sample_rate_hz: int) -> np.ndarray:
    """Return a span of what is made, in the time of the recording, float32 [shape=(stop - start,)]."""
    from arkund.core.dsp import _drawing  # a slow import, not needed where a Plan is only read

    sound, out = _sound(made.replace(strikes=(), follow=0.0, least_db=EVERY), sample_rate_hz), np.zeros(stop - start)
    at, gains = _struck(made)
    low, high = np.searchsorted(at, start - sound.size), np.searchsorted(at, stop)
    gives_way = max(round(ms_to_samples(GIVES_WAY_MS, sample_rate_hz)), 1)
    whole, zeros = np.full(high - low, sound.size), np.zeros(high - low, np.int64)
    room = np.diff(at, append=at[-1:] + sound.size)[low:high]
    _drawing.add_strikes(out, start, at[low:high], gains[low:high], zeros, whole, sound, room, gives_way)
    return out.astype(np.float32)


@functools.lru_cache(maxsize=64)
def _struck(made: Made) -> tuple[np.ndarray, np.ndarray]:
    """Return where it is struck, and how strongly, as factors."""
    rows = np.array(made.strikes, float).reshape(-1, 2)
    if made.least_db > EVERY:
        rows = rows[rows[:, 1] >= made.least_db]
    return rows[:, 0].astype(np.int64), db_to_gain(LEVEL_DB + made.follow * rows[:, 1])


@functools.lru_cache(maxsize=32)
def _sound(made: Made, rate: int) -> np.ndarray:
    """Return one strike at full scale, from its first sample on, in double precision."""
    attack, hold, release = (ms_to_samples(ms, rate) for ms in (made.attack_ms, made.hold_ms, made.release_ms))
    t = np.arange(int(np.ceil(attack + hold + release)))
    # The phase is the integral of the frequency: f * (t + what the fall adds), by the middle of each sample.
    higher = 2.0 ** (made.fall_octaves * np.exp(-1000.0 * (t + 0.5) / (made.fall_ms * rate)))
    phase = np.concatenate([[0.0], np.cumsum(higher)[:-1]]) * made.frequency_hz / rate
    rise = cubic(t / max(attack, 1.0))
    fallen = np.clip((t - attack - hold) / release, 0.0, 1.0)
    ends = np.clip((1.0 - fallen) / ENDS_SHARE, 0.0, 1.0)
    envelope = rise * 10.0 ** (-3.0 * fallen) * ends
    return np.sin(2.0 * np.pi * phase) * envelope
