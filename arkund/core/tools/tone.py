"""The equaliser: any number of matched filters."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp import filters
from arkund.core.dsp.bank import Filters
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.reach import Reach, of_cascades
from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, choice, number
from arkund.core.tools.tool import Tool, kind

SHELVES = ("low_shelf", "high_shelf")
MOST_SHELF_Q = 2.0  # steeper ones overshoot by more than they lift, and cannot be matched near half the sample rate
SHAPES = ("high_pass", "low_pass", *SHELVES, "bell")
MOST_BANDS = 24
HIGHEST_SHARE = 0.45  # of the sample rate: what lies above is tuned there


@dataclass(frozen=True, slots=True, kw_only=True)
class Band(Settings):
    """One filter. Gain and q count for shelves and bells, the slope for high- and low-pass."""

    kind: str = choice("bell", SHAPES)
    on: bool = True
    frequency_hz: float = number(1000.0, 20.0, 20000.0, step=1.0, unit="Hz")
    gain_db: float = number(0.0, -15.0, 15.0, step=0.1, unit="dB")
    q: float = number(0.9, 0.3, 20.0, step=0.05, help="centre / bandwidth; narrow for ringing, wide for tone")
    slope_db: int = number(12, 6, 48, step=6, unit="dB/octave")

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if self.kind in SHELVES and self.q > MOST_SHELF_Q:
            raise SettingsError(
                f"q: {self.q:g} is outside {self.ranges()['q'].low:g} to {MOST_SHELF_Q:g} for a shelf; a bell may be narrower."
            )


@dataclass(frozen=True, slots=True, kw_only=True)
class Tone(Tool):
    """The equaliser of one strip."""

    kind: str = kind("tone")
    on: bool = True
    bands: tuple[Band, ...] = ()

    def __post_init__(self) -> None:
        Tool.__post_init__(self)
        if len(self.bands) > MOST_BANDS:
            raise SettingsError(f"bands: at most {MOST_BANDS} filters in a tool, got {len(self.bands)}.")

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the equaliser must hear beyond a span."""
        return of_cascades([sections(self, sample_rate_hz)])


SETTINGS = Tone


def sections(tone: Tone, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return the digital sections of all bands that are on."""
    out: tuple[Biquad, ...] = ()
    for band in tone.bands if tone.on else ():
        if band.on:
            out += _band(band, sample_rate_hz)
    return out


def _band(band: Band, rate: int) -> tuple[Biquad, ...]:
    frequency = min(band.frequency_hz, HIGHEST_SHARE * rate + 155.0)
    if band.kind == "high_pass":
        return filters.high_pass(frequency, band.slope_db // 6, rate)
    if band.kind == "low_pass":
        return filters.low_pass(frequency, band.slope_db // 6, rate)
    if abs(band.gain_db) < 0.005:
        return ()
    shape = {"bell": filters.bell, "low_shelf": filters.low_shelf, "high_shelf": filters.high_shelf}[band.kind]
    return (shape(frequency, band.gain_db, band.q, rate),)


def curve_db(tone: Tone, frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the equaliser's gain in dB at frequencies in Hz."""
    return filters.magnitude_db(sections(tone, sample_rate_hz), frequency_hz, sample_rate_hz)


class Run:
    """Equalisers of a bank's lanes that keep their state from block to block."""

    ahead = 0

    def __init__(self, tools: Sequence[Tone | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        self._filters = Filters([sections(each, sample_rate_hz) if each else () for each in tools], width)

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Filter the first ``count`` rows of a bank [float32, shape=(samples, width), contiguous] in place."""
        self._filters.run(bank[:count])


def oracle(x: np.ndarray, tone: Tone, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] through an equaliser, sample by sample in double precision."""
    from arkund.core.tools.plain import filtered

    return filtered(x, sections(tone, sample_rate_hz))
