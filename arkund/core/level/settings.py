"""Where peaks should lie: the schools, and a window of one's own."""

from dataclasses import dataclass

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import is_tom
from arkund.core.settings import Settings, number

BOTTOM_BELOW_DB = 4.0  # a snare's bottom mic usually sits about this much under its top


@dataclass(frozen=True, slots=True, kw_only=True)
class Window(Settings):
    """The target for the peaks of a mic at its own hits."""

    low_db: float = number(-10.0, -40.0, 0.0, step=0.5, unit="dBFS")
    high_db: float = number(-6.0, -40.0, 0.0, step=0.5, unit="dBFS")
    toms_below_db: float = number(3.0, 0.0, 20.0, step=0.5, unit="dB", help="toms under kick and snare")
    kit_db: float = number(-6.0, -40.0, 0.0, step=0.5, unit="dBFS", help="the sum of all mics stays below this")

    def __post_init__(self) -> None:
        Settings.__post_init__(self)
        if self.high_db < self.low_db:
            raise SettingsError(
                f"window: its upper end {self.high_db:g} dBFS lies below its lower end {self.low_db:g} dBFS."
            )

    def of(self, piece: str, role: str = "") -> tuple[float, float]:
        """Return the window for a mic of a piece."""
        lower = self.toms_below_db if is_tom(piece) else 0.0
        lower += BOTTOM_BELOW_DB if (piece, role) == ("snare", "bottom") else 0.0
        return self.low_db - lower, self.high_db - lower


# The two schools, and what each is for.
SCHOOLS = {
    "peaks": (Window(), "Peaks from −10 to −6 dBFS, toms 3 dB lower: strong levels with room to grow."),
    "headroom": (
        Window(low_db=-15.0, high_db=-12.0, toms_below_db=0.0),
        "Every mic peaks from −15 to −12 dBFS: room for what boosts add.",
    ),
}
