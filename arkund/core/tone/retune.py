"""An equaliser carried from one drum to another of its kind: what belongs to the pitch moves with it, what belongs to the stick stays."""

from arkund.core.tools.tone import Band, Tone

PITCHED_BELOW_HZ = 1000.0  # above it lie stick, wires and air, which are those of any size of drum


def retuned(tone: Tone, ratio: float) -> Tone:
    """Return an equaliser for a drum whose fundamental is ``ratio`` times as high."""
    return tone.replace(bands=tuple(_moved(band, ratio) for band in tone.bands))


def _moved(band: Band, ratio: float) -> Band:
    if band.frequency_hz > PITCHED_BELOW_HZ:
        return band
    allowed = Band.ranges()["frequency_hz"]
    hz = min(max(band.frequency_hz * ratio, allowed.low), allowed.high)
    return band.replace(frequency_hz=round(hz, 1))
