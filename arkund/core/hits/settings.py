"""What the hit finder may be told: how sure it must be and which mics belong to which piece."""

from dataclasses import dataclass

from arkund.core.kit.pieces import is_close, timing_mic
from arkund.core.settings import Settings, number


@dataclass(frozen=True, slots=True, kw_only=True)
class HitSettings(Settings):
    """How hits are found."""

    sure_percent: float = number(40.0, 5.0, 95.0, step=5.0, unit="%", help="how sure it must be of a hit")
    apart_ms: float = number(12.0, 8.0, 60.0, step=1.0, unit="ms", help="nearest two hits of one piece")


@dataclass(frozen=True, slots=True)
class Channel:
    """One mic as the hit finder sees it."""

    piece: str  # a close mic's piece, or "kit"
    close: bool
    first: bool  # the mic in which this piece's times are defined; an overhead: of cymbals that have no mic


def channels_of(mics) -> list[Channel]:
    """Return how the hit finder sees mics (anything with .piece and .role) that start together."""
    out = []
    for mic in mics:
        close = is_close(mic.role) and mic.piece != "kit"
        first = timing_mic(mics, mic.piece) is mic if close else mic.role == "overhead"
        out.append(Channel(mic.piece if close else "kit", close, first))
    return out
