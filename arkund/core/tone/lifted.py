"""How far a row of tools lifts the range in which ears tire first."""

from collections.abc import Iterable

from arkund.core.tools.tone import Tone
from arkund.core.tools.tool import Tool

TIRING_HZ = (1000.0, 5000.0)
LEAST_DB = 0.05


def lifted_db(tools: Iterable[Tool]) -> float:
    """Return what the bells of a row that are on lift between 1 and 5 kHz, altogether in dB; 0 where that is hardly anything."""
    bells = [band for tool in tools if isinstance(tool, Tone) and tool.on for band in tool.bands if band.kind == "bell"]
    inside = [band.gain_db for band in bells if band.on and TIRING_HZ[0] <= band.frequency_hz <= TIRING_HZ[1]]
    total = sum(gain for gain in inside if gain > 0.0)
    return round(total, 1) if total > LEAST_DB else 0.0
