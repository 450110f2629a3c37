"""Where peaks should lie."""

from dataclasses import dataclass

from arkund.core.kit.pieces import is_tom
from arkund.core.settings import Settings, number

TOM_BELOW_DB = 3.0  # toms about 3 dB under kick and snare


@dataclass(frozen=True, slots=True, kw_only=True)
class Window(Settings):
    """The target for the peaks of a mic at its own hits."""

    low_db: float = number(-10.0, -40.0, 0.0, step=0.5, unit="dBFS")
    high_db: float = number(-6.0, -40.0, 0.0, step=0.5, unit="dBFS")

    def of(self, piece: str) -> tuple[float, float]:
        """Return the window for a piece."""
        lower = TOM_BELOW_DB if is_tom(piece) else 0.0
        return self.low_db - lower, self.high_db - lower
