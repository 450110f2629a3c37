"""What the hit finder may be told: how eager it is and which mics belong to which piece."""

from dataclasses import dataclass

from arkund.core.settings import Settings, number


@dataclass(frozen=True, slots=True, kw_only=True)
class HitSettings(Settings):
    """How hits are found."""

    rise_db: float = number(4.0, 1.0, 12.0, step=0.5, unit="dB", help="how far a band must rise to be looked at")
    excess_db: float = number(0.0, -3.0, 10.0, step=0.5, unit="dB", help="asks more (or less) of every hit")
    apart_ms: float = number(14.0, 8.0, 60.0, step=1.0, unit="ms", help="nearest two hits of one piece")


@dataclass(frozen=True, slots=True)
class Channel:
    """One mic as the hit finder sees it."""

    piece: str  # a close mic's piece, or "kit"
    close: bool
    first: bool  # the mic in which this piece's times are defined
    sideways: bool = False  # hears the piece through another (sub, bottom): helps to decide, not to time
