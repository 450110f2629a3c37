"""The equaliser: any number of matched filters, of which bells and shelves may move with a level.

A band that moves is its static self, and behind it one that stands still at 0 dB until the level in the band passes the threshold; then it moves by a dB for
each dB above, up to its range, where it is the static band of that gain.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from arkund.core.dsp import filters
from arkund.core.dsp.bank import Filters, borrowed, coefficient, lanes, returned
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.moving import Moving, moving
from arkund.core.dsp.reach import Reach, of_cascades, of_follower
from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, choice, number
from arkund.core.tools import _tone
from arkund.core.tools.detector import key_filter
from arkund.core.tools.tool import Key, Tool, kind
from arkund.core.units import DB_PER_OCTAVE, db_to_gain, db_to_power, gain_to_db

SHELVES = ("low_shelf", "high_shelf")
MOST_SHELF_Q = 2.0  # steeper ones overshoot by more than they lift, and cannot be matched near half the sample rate
PASSES = ("high_pass", "low_pass")
SHAPES = (*PASSES, *SHELVES, "bell", "bump")
BUMP_OCTAVES, BUMP_SHARE, BUMP_Q = 1.2, 0.6, 0.8  # the dip of a bump: how far above it, how much of its gain, how wide
KEY_ORDER = 2
MOST_BANDS = 24
HIGHEST_SHARE = 0.45  # of the sample rate: what lies above is tuned there


@dataclass(frozen=True, slots=True, kw_only=True)
class Band(Settings):
    """One filter. Gain and q count for shelves and bells, slope and resonance for high- and low-pass; a bump is a low shelf that dips above what it lifts.

    range_db : how far a bell or shelf moves with the level in its band, 0 = never; compensated : a resonant filter is lowered, so that of pink noise as much
    passes as without its resonance
    """

    kind: str = choice("bell", SHAPES)
    on: bool = True
    frequency_hz: float = number(1000.0, 20.0, 20000.0, step=1.0, unit="Hz")
    gain_db: float = number(0.0, -15.0, 15.0, step=0.1, unit="dB")
    q: float = number(0.9, 0.3, 20.0, step=0.05, help="centre / bandwidth; narrow for ringing, wide for tone")
    slope_db: int = number(12, 6, 48, step=6, unit="dB/octave")
    resonance_db: float = number(0.0, 0.0, 18.0, step=0.5, unit="dB", help="how much more passes at its frequency")
    compensated: bool = False
    range_db: float = number(0.0, -24.0, 24.0, step=0.5, unit="dB", help="moves up to this far with the level in it")
    threshold_db: float = number(-30.0, -90.0, 0.0, step=0.5, unit="dB", help="moves a dB for each dB above this")
    attack_ms: float = number(5.0, 0.1, 200.0, step=0.1, unit="ms", help="63 % of the way there")
    release_ms: float = number(120.0, 5.0, 2000.0, step=1.0, unit="ms", help="63 % of the way back")

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if self.kind in SHELVES and self.q > MOST_SHELF_Q:
            raise SettingsError(
                f"q: {self.q:g} is outside {self.ranges()['q'].low:g} to {MOST_SHELF_Q:g} for a shelf; a bell may be narrower."
            )
        if self.range_db and self.kind not in (*SHELVES, "bell"):
            raise SettingsError(f"range_db: a {self.kind.replace('_', '-')} does not move; a shelf or a bell may.")
        if self.resonance_db and (self.kind not in PASSES or self.slope_db < 12):
            raise SettingsError("resonance_db: only high- and low-pass of 12 dB/octave and more have one.")

    @property
    def moves(self) -> bool:
        """Whether it follows a level."""
        return self.on and self.range_db != 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Tone(Tool):
    """The equaliser of one strip."""

    kind: str = kind("tone")
    on: bool = True
    bands: tuple[Band, ...] = ()
    key: Key = Key()  # noqa: RUF009 (frozen): of the bands that move

    def __post_init__(self) -> None:
        Tool.__post_init__(self)
        if len(self.bands) > MOST_BANDS:
            raise SettingsError(f"bands: at most {MOST_BANDS} filters in a tool, got {len(self.bands)}.")

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the equaliser must hear beyond a span."""
        reach = of_cascades([(*sections(self, sample_rate_hz), *self.detector(sample_rate_hz))])
        for band in self.moving:
            slowest = of_follower(max(band.attack_ms, band.release_ms), sample_rate_hz)
            reach += Reach(swaying(band, sample_rate_hz).settle_samples()) + slowest
        return reach

    def detector(self, sample_rate_hz: int) -> tuple[Biquad, ...]:
        """Return the sections that the bands that move listen through."""
        return key_filter(self.key, KEY_ORDER, sample_rate_hz)

    @property
    def moving(self) -> tuple[Band, ...]:
        """Return the bands that follow a level."""
        return tuple(band for band in self.bands if band.moves)


SETTINGS = Tone


def sections(tone: Tone, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return the digital sections of all bands that are on."""
    out: tuple[Biquad, ...] = ()
    for band in tone.bands if tone.on else ():
        if band.on:
            out += _band(band, sample_rate_hz)
    return out


def _band(band: Band, rate: int) -> tuple[Biquad, ...]:
    frequency = _tuned_hz(band, rate)
    if band.kind in PASSES:
        shape = filters.high_pass if band.kind == "high_pass" else filters.low_pass
        found = shape(frequency, band.slope_db // 6, rate, band.resonance_db)
        return _compensated(found, shape(frequency, band.slope_db // 6, rate), rate) if band.compensated else found
    if abs(band.gain_db) < 0.005:
        return ()
    if band.kind == "bump":
        dip_hz = min(frequency * 2.0**BUMP_OCTAVES, HIGHEST_SHARE * rate)
        dip = filters.bell(dip_hz, -BUMP_SHARE * band.gain_db, BUMP_Q, rate)
        return (filters.low_shelf(frequency, band.gain_db, min(band.q, MOST_SHELF_Q), rate), dip)
    shape = {"bell": filters.bell, "low_shelf": filters.low_shelf, "high_shelf": filters.high_shelf}[band.kind]
    return (shape(frequency, band.gain_db, band.q, rate),)


def _tuned_hz(band: Band, rate: int) -> float:
    return min(band.frequency_hz, HIGHEST_SHARE * rate + 155.0)


def _compensated(found: tuple[Biquad, ...], plain: tuple[Biquad, ...], rate: int) -> tuple[Biquad, ...]:
    """Return sections lowered, so that of pink noise as much passes as through others: every octave counts the same."""
    hz = np.geomspace(filters.LOWEST_HZ, min(filters.HIGHEST_HZ, 0.49 * rate), 600)
    more, less = (np.mean(db_to_power(filters.magnitude_db(each, hz, rate))) for each in (found, plain))
    share, first = float(np.sqrt(less / more)), found[0]
    return (replace(first, b0=share * first.b0, b1=share * first.b1, b2=share * first.b2), *found[1:])


def swaying(band: Band, sample_rate_hz: int) -> Moving:
    """Return the filter by which a band moves: moved all the way, the static one whose gain is its range. A move by its gain, the other way, undoes it."""
    furthest_db = band.range_db or 1.0  # of one that never moves any will do
    return moving(band.kind, _tuned_hz(band, sample_rate_hz), band.q, furthest_db, sample_rate_hz)


def curve_db(tone: Tone, frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the equaliser's gain in dB at frequencies in Hz, where no band has moved."""
    return filters.magnitude_db(sections(tone, sample_rate_hz), frequency_hz, sample_rate_hz)


def moved_curve_db(tone: Tone, frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return its gain in dB where all bands that move have moved as far as they may."""
    out = curve_db(tone, frequency_hz, sample_rate_hz)
    for band in tone.moving if tone.on else ():
        response = swaying(band, sample_rate_hz).response(band.range_db, frequency_hz, sample_rate_hz)
        out = out + gain_to_db(np.abs(response))
    return out


def moved_db(band: Band, level_db: np.ndarray) -> np.ndarray:
    """Return how far a band moves, in dB, at levels in it that stand still."""
    far = np.clip(np.asarray(level_db, float) - band.threshold_db, 0.0, abs(band.range_db))
    return np.sign(band.range_db) * far


class Run:
    """Equalisers of a bank's lanes that keep their state from block to block."""

    ahead = 0

    def __init__(self, tools: Sequence[Tone | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        some = [each or Tone(bands=()) for each in tools]
        self._filters = Filters([sections(each, sample_rate_hz) if each else () for each in tools], width)
        rows = [each.moving if each.on else () for each in some]
        self._depth, self._keys = max((len(row) for row in rows), default=0), None
        if not self._depth:
            return
        keyed = np.zeros(width, bool)
        keyed[: len(some)] = [bool(each.key.of) for each in some]
        self._keyed = keyed if keyed.any() else None
        heard = Filters([each.detector(sample_rate_hz) for each in some], width)
        self._keys = heard if heard.depth else None
        self._params = [
            lanes(_params([row[k] if k < len(row) else STILL for row in rows], some, sample_rate_hz, linked), width)
            for k in range(self._depth)
        ]
        self._states = [np.zeros(5 * width, np.float32) for _ in self._params]

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Filter the first ``count`` rows of a bank [float32, shape=(samples, width), contiguous] in place.

        key : a bank of the same shape, for the lanes whose moving bands hear something else; the others hear what comes in
        """
        part = bank[:count]
        if not self._depth:
            self._filters.run(part)
            return
        heard = borrowed(count, bank.shape[1])
        heard[:] = part if key is None or self._keyed is None else np.where(self._keyed, key[:count], part)
        if self._keys:
            self._keys.run(heard)
        self._filters.run(part)
        kernel = _tone.BANKS[bank.shape[1]].swaying
        for params, state in zip(self._params, self._states, strict=True):
            kernel(part.reshape(-1), heard.reshape(-1), params, state)
        returned(heard)


STILL = Band(kind="bell")  # moves by nothing


def _params(bands: Sequence[Band], tools: Sequence[Tone], rate: int, linked: bool) -> list[list[float]]:
    """Return the rows of parameters of one moving band a lane, as ``_tone.swaying`` wants them."""
    columns = []
    for band, tool in zip(bands, tools, strict=True):
        mine = swaying(band, rate)
        struck = tool.key.of.startswith("hits:")  # which are no sound: their level is heard as it is
        across = mine.k if band.kind == "bell" else 0.0
        columns.append(
            (
                *mine.coefficients(),
                *mine.with_gain,
                mine.with_root,
                *((1.0, 0.0, 0.0, 0.0) if struck else (*mine.listens, across)),
                band.threshold_db,
                abs(band.range_db),
                np.sign(band.range_db) / (2.0 * DB_PER_OCTAVE),
                1.0 - coefficient(band.attack_ms, rate),
                1.0 - coefficient(band.release_ms, rate),
                float(linked),
            )
        )
    return [list(row) for row in zip(*columns, strict=True)]


def oracle(x: np.ndarray, tone: Tone, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] through an equaliser, sample by sample in double precision."""
    from arkund.core.tools.plain import filtered

    heard = filtered(np.asarray(x if key is None else key, float), tone.detector(sample_rate_hz))
    out = filtered(x, sections(tone, sample_rate_hz))
    struck = tone.key.of.startswith("hits:")
    for band in tone.moving if tone.on else ():
        out = _swayed(out, heard, band, struck, sample_rate_hz)
    return out


def _swayed(x: np.ndarray, heard: np.ndarray, band: Band, struck: bool, rate: int) -> np.ndarray:
    """Return a signal through one band that moves."""
    mine, far, out = swaying(band, rate), 0.0, np.empty(len(x))
    in_band, below = (_passed(each, mine) for each in (heard, x))
    attack, release = coefficient(band.attack_ms, rate), coefficient(band.release_ms, rate)
    across = mine.k if band.kind == "bell" else 0.0
    for i, v in enumerate(np.asarray(x, float).tolist()):
        (k1, k2), (v1, v2) = in_band[i], below[i]
        level = abs(heard[i]) if struck else np.hypot(mine.listens[0] * heard[i] + mine.listens[1] * k1 + mine.listens[2] * k2, across * k2)  # fmt: skip
        wanted = abs(float(moved_db(band, gain_to_db(level + 1e-9))))
        far = wanted + (far - wanted) * (attack if wanted > far else release)
        root = float(db_to_gain(np.sign(band.range_db) * far / 2.0))
        moved = mine.with_gain[0] * v + mine.with_gain[1] * v1 + mine.with_gain[2] * v2
        out[i] = v + (root * root - 1.0) * moved + (root - 1.0) * mine.with_root * v1
    return out


def _passed(x: np.ndarray, mine: Moving) -> list[tuple[float, float]]:
    """Return what passes a filter's band and what passes below it, sample by sample, by the trapezoidal rule."""
    g, k, first, second, out = mine.g, mine.k, 0.0, 0.0, []
    for v in np.asarray(x, float).tolist():
        band = (first + g * (v - second)) / (1.0 + g * (g + k))
        low = second + g * band
        first, second = 2.0 * band - first, 2.0 * low - second
        out.append((band, low))
    return out
