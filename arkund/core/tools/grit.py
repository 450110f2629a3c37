"""Grit: saturation that lets small sounds pass as they are and rounds off, or cuts off, large ones."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np

from arkund.core.dsp.bank import Filters, fresh, lanes
from arkund.core.dsp.filters import HIGHEST_HZ, LOWEST_HZ, Biquad, band, high_pass, high_shelf
from arkund.core.dsp.reach import Reach, of_cascades
from arkund.core.settings import choice, number
from arkund.core.tools import _grit
from arkund.core.tools._grit import AFTER, BEFORE
from arkund.core.tools.tool import Tool, kind
from arkund.core.units import db_to_gain, gain_to_db

SHAPES = ("soft", "lopsided", "tape", "hard")
LOPSIDED = 0.7  # how far off its middle that curve is worked on: even harmonics 10 dB and less under odd ones at drives that are heard
TAPE_DB, TAPE_HZ = 9.0, 4000.0  # what lies above is driven so much more
NO_DC_HZ = 4.0
KAISER = 9.4  # -95 dB


@dataclass(frozen=True, slots=True, kw_only=True)
class Grit(Tool):
    """Saturation. What a strip is less than full scale by, the curve leaves it in peace by; drive brings it up to the curve and back."""

    kind: str = kind("grit")
    shape: str = choice("soft", SHAPES)
    drive_db: float = number(
        6.0, 0.0, 36.0, step=0.5, unit="dB", help="louder into the curve by this, and softer behind it"
    )
    bias: float = number(0.0, -0.9, 0.9, step=0.05, help="off the curve's middle: even harmonics")
    from_hz: float = number(
        LOWEST_HZ, LOWEST_HZ, 8000.0, step=1.0, unit="Hz", help="what lies below stays as it is; 20 = nothing does"
    )
    up_to_hz: float = number(
        HIGHEST_HZ, 100.0, HIGHEST_HZ, step=1.0, unit="Hz", help="what lies above stays as it is; 20000 = nothing does"
    )
    share: float = number(1.0, 0.0, 1.0, step=0.01, help="of what the curve changes; 0 = nothing")
    output_db: float = number(0.0, -24.0, 24.0, step=0.1, unit="dB", help="to match loudness: what the curve took")

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what it must hear beyond a span: its filters, and what the finer rate needs on both sides."""
        return (
            of_cascades([_before(self, sample_rate_hz)])
            + Reach(BEFORE, after=AFTER)
            + of_cascades([_behind(self, sample_rate_hz)])
        )


SETTINGS = Grit


def _before(grit: Grit, rate: int) -> tuple[Biquad, ...]:
    """Return what leads to the curve."""
    return (*band(grit.from_hz, grit.up_to_hz, 2, rate), *_emphasis(grit, rate, 1.0))


def _emphasis(grit: Grit, rate: int, sign: float) -> tuple[Biquad, ...]:
    return (high_shelf(TAPE_HZ, sign * TAPE_DB, 0.7, rate),) if grit.shape == "tape" else ()


def _behind(grit: Grit, rate: int) -> tuple[Biquad, ...]:
    """Return what follows the curve; DC is taken off where the curve makes some, and else not, because flat tops of low notes would lean."""
    even = grit.bias or grit.shape == "lopsided"
    return (*_emphasis(grit, rate, -1.0), *(high_pass(NO_DC_HZ, 1, rate) if even else ()))


@cache
def taps() -> tuple[np.ndarray, ...]:
    """Return the taps of three doublings (between two samples, outwards) and three halvings (from the middle outwards), float32.

    Windowed sincs (J. F. Kaiser, 1974): -90 dB and better from half the outer rate on, flat to 18 kHz of 48.
    """
    ups = [2.0 * _sinc(size, 0.5)[size // 2 + 1 :: 2] for size in (79, 23, 19)]
    downs = [_sinc(size, cut)[size // 2 :] for size, cut in ((19, 0.5), (23, 0.5), (127, 0.4455))]
    ups = [taps / (2.0 * taps.sum()) for taps in ups]
    return tuple(np.ascontiguousarray(taps, np.float32) for taps in (*ups, *downs))


def _sinc(size: int, cut: float) -> np.ndarray:
    """Return a low-pass of odd length; cut : its edge against half the rate. Its taps add up to one."""
    at = np.arange(size) - size // 2
    taps = np.sinc(cut * at) * np.kaiser(size, KAISER)
    return taps / taps.sum()


def _curve(grit: Grit) -> tuple[float, float, float, float]:
    """Return where a curve is worked on, what it is there, one over its slope there, and the share of the clipped line."""
    hard = float(grit.shape == "hard")
    bias = grit.bias + (LOPSIDED if grit.shape == "lopsided" else 0.0)
    soft = bias / (1.0 + bias * bias) ** 0.5, (1.0 + bias * bias) ** 1.5
    return (bias, bias, 1.0, hard) if hard else (bias, *soft, hard)


class Run:
    """Saturation of a bank's lanes that keeps its state from block to block; lanes without one pass unchanged."""

    ahead = AFTER

    def __init__(self, tools: Sequence[Grit | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        rate, self._mine = sample_rate_hz, [each is not None for each in tools]
        some = [each or Grit() for each in tools]
        self._before = Filters([_before(each, rate) for each in some], width)
        self._behind = Filters([_behind(each, rate) for each in some], width)
        self._params = lanes(zip(*(_curve(each) for each in some), strict=True), width)
        self._cuts = any(each.shape == "hard" for each in some)
        drives = [float(db_to_gain(each.drive_db)) for each in some]
        self._drive = lanes([drives], width)
        self._wet = lanes([[on * each.share / d for on, each, d in zip(self._mine, some, drives, strict=True)]], width)
        self._output = lanes(
            [[float(db_to_gain(e.output_db)) if on else 1.0 for on, e in zip(self._mine, some, strict=True)]], width
        )
        self._known = np.zeros((BEFORE, width), np.float32)  # driven rows before those that come

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Bend the first ``count`` rows of a bank [float32, shape=(samples, width)] in place; ``ahead`` rows behind them are looked at."""
        loops, before = _grit.BANKS[bank.shape[1]], self._known.shape[0]
        given = bank[before - BEFORE : count + AFTER]
        known = fresh(before + given.shape[0], bank.shape[1])
        known[:before] = self._known
        loops.driven(given.reshape(-1), self._drive, known[before:].reshape(-1))
        self._before.run(known[before:])
        made = fresh(count, bank.shape[1])
        loops.grit(known.reshape(-1), made.reshape(-1), self._params, self._cuts, *taps())
        self._behind.run(made)
        loops.added(bank[:count].reshape(-1), made.reshape(-1), self._wet, self._output)
        self._known = known[count:].copy()


def transfer_db(grit: Grit, level_db: np.ndarray) -> np.ndarray:
    """Return the level that its curve leaves of a peak, the higher one of both sides, in dB."""
    bias, there, steep, hard = _curve(grit)
    drive, peaks = float(db_to_gain(grit.drive_db)), db_to_gain(np.asarray(level_db))[None] * [[1.0], [-1.0]]
    driven = peaks * drive + bias
    curve = np.clip(driven, -1.0, 1.0) if hard else driven / np.sqrt(1.0 + driven * driven)
    wet = (curve - there) * steep / drive
    return gain_to_db(np.max(np.abs(peaks + grit.share * (wet - peaks)), axis=0)) + grit.output_db


def oracle(x: np.ndarray, grit: Grit, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] with grit, in double precision: zeros put between samples, filtered, bent, filtered, and every eighth kept."""
    from arkund.core.tools.plain import filtered

    rate, (bias, there, steep, hard) = sample_rate_hz, _curve(grit)
    drive = float(db_to_gain(grit.drive_db))
    u = np.pad(filtered(np.asarray(x, float) * drive, _before(grit, rate)), 200)
    up_1, up_2, up_3, *downs = (each.astype(float) for each in taps())
    for each in (up_1, up_2, up_3):
        row = np.zeros(4 * each.size - 1)
        row[0::2] = np.concatenate([each[::-1], each])
        row[row.size // 2] = 1.0
        wide = np.zeros(2 * u.size)
        wide[::2] = u
        u = np.convolve(wide, row, "same")
    a, b = np.concatenate([[0.0], u[:-1]]) + bias, np.concatenate([u[1:], [0.0]]) + bias
    if hard:
        ends = [np.clip(each, -1.0, 1.0) for each in (a, b)]
        way = np.where(np.abs(b - a) > 1e-12, b - a, 1.0)
        curve = 0.5 * (ends[0] + ends[1] + (ends[1] - ends[0]) / way * ((b - ends[1]) + (a - ends[0])))
    else:
        curve = (a + b) / (np.sqrt(1.0 + a * a) + np.sqrt(1.0 + b * b))
    made = (curve - there) * steep - (0.5 * (a + b) - bias)
    for each in downs:
        made = np.convolve(made, np.concatenate([each[:0:-1], each]), "same")[::2]
    made = filtered(made[200:-200], _behind(grit, rate))
    return (np.asarray(x, float) + grit.share / drive * made) * float(db_to_gain(grit.output_db))
