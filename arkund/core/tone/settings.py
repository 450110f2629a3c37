"""Filters and bands of one mic."""

from dataclasses import dataclass

from arkund.core.errors import SettingsError
from arkund.core.settings import Settings, choice, number

SHELVES = ("low_shelf", "high_shelf")
MOST_SHELF_Q = 2.0  # steeper ones overshoot by more than they lift, and cannot be matched near half the sample rate
KINDS = ("high_pass", "low_pass", "low_shelf", "high_shelf", "bell")
MOST_BANDS = 24


@dataclass(frozen=True, slots=True, kw_only=True)
class Band(Settings):
    """One filter. Gain and q count for shelves and bells, the slope for high- and low-pass."""

    kind: str = choice("bell", KINDS)
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
class ToneSettings(Settings):
    """The equaliser of one mic."""

    on: bool = True
    bands: tuple[Band, ...] = ()

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if len(self.bands) > MOST_BANDS:
            raise SettingsError(f"bands: at most {MOST_BANDS} filters per mic, got {len(self.bands)}.")
