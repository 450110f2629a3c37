"""How hits are pulled to the grid."""

from dataclasses import dataclass

from arkund.core.settings import Settings, number

GRIDS = (4, 6, 8, 12, 16, 24, 32)  # places per whole note


@dataclass(frozen=True, slots=True, kw_only=True)
class QuantiseSettings(Settings):
    """Which bars are pulled to which grid, how far, and what is left alone."""

    first_bar: int = number(0, 0, 100000, step=1, help="counted from 0")
    last_bar: int = number(0, 0, 100000, step=1, help="inclusive")
    grid: int = number(16, 1, 64, step=1, help="places per whole note: 8 = eighths, 12 = eighth triplets")
    strength: float = number(100.0, 0.0, 100.0, step=5, unit="%")
    tolerance_ms: float = number(3.0, 0.0, 50.0, step=0.5, unit="ms", help="what lies this near is left alone")
    most_ms: float = number(60.0, 5.0, 150.0, step=1, unit="ms", help="what lies further off is meant otherwise")
