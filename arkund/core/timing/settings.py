"""How hits are pulled to the grid."""

from dataclasses import dataclass

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import PIECES
from arkund.core.settings import Settings, choice, number

GRIDS = (4, 6, 8, 12, 16, 24, 32)  # places per whole note
AS_MEANT = 0  # each bar by what the drummer meant in it
OFFERED_METERS = ("4/4", "3/4", "6/8", "12/8", "5/4", "7/8")  # any other may be typed on the command line
METHODS = ("auto", "slices", "stretch")


@dataclass(frozen=True, slots=True, kw_only=True)
class QuantiseSettings(Settings):
    """Which bars are pulled to which grid, how far, what is left alone, and how the gaps are closed."""

    first_bar: int = number(0, 0, 100000, step=1, help="counted from 0")
    last_bar: int = number(0, 0, 100000, step=1, help="inclusive")
    grid: int = number(16, 0, 64, step=1, help="places per whole note: 8 = eighths, 12 = eighth triplets; 0 = as meant")
    swing: float = number(50.0, 50.0, 75.0, step=0.5, unit="%", help="where every second place falls; 50 = even")
    strength: float = number(100.0, 0.0, 100.0, step=5, unit="%")
    tolerance_ms: float = number(0.0, 0.0, 50.0, step=0.5, unit="ms", help="what lies this near is left alone")
    most_ms: float = number(60.0, 5.0, 150.0, step=1, unit="ms", help="what lies further off is meant otherwise")
    method: str = choice("auto", METHODS)
    pieces: tuple[str, ...] = ()  # whose strokes are pulled; none given = all
    kick_alone: bool = False  # a kick apart from the snare it was meant with is moved in its own mics
    split_cymbals: bool = False  # a snare and a cymbal apart share the error
    groove_first: int | None = number(
        None, 0, 100000, step=1, help="bars whose feel is the target instead of the even grid"
    )
    groove_last: int | None = number(None, 0, 100000, step=1)

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if self.last_bar < self.first_bar:
            raise SettingsError("last_bar: lies before the first bar.")
        if (self.groove_first is None) != (self.groove_last is None) or (self.groove_first or 0) > (
            self.groove_last or 0
        ):
            raise SettingsError("groove: give its first and its last bar, in this order.")
        unknown = [piece for piece in self.pieces if piece not in PIECES]
        if unknown:
            raise SettingsError(f"pieces: unknown piece {unknown[0]!r}; known are {', '.join(PIECES)}.")


# The two schools, as ready choices: what they set, and what they are for.
SCHOOLS = {
    "grid": ({"strength": 100.0, "tolerance_ms": 0.0, "most_ms": 60.0}, "Everything on the grid: modern heavy music."),
    "feel": (
        {"strength": 60.0, "tolerance_ms": 12.0, "most_ms": 60.0},
        "Keep the feel: only what sticks out, and only part of the way.",
    ),
}
