"""The equaliser: any number of matched filters per mic."""

from collections.abc import Sequence

import numpy as np

from arkund.core.dsp import filters
from arkund.core.dsp.bank import Filters
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.reach import Reach, of_cascades
from arkund.core.tone.settings import Band, ToneSettings

HIGHEST_SHARE = 0.45  # of the sample rate: what lies above is tuned there


def sections(settings: ToneSettings, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return the digital sections of all bands that are on."""
    out: tuple[Biquad, ...] = ()
    for band in settings.bands if settings.on else ():
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


def equaliser(settings: Sequence[ToneSettings], sample_rate_hz: int, width: int) -> Filters:
    """Return the equalisers of a bank's channels."""
    return Filters([sections(s, sample_rate_hz) for s in settings], width)


def reach(settings: ToneSettings, sample_rate_hz: int) -> Reach:
    """Return what the equaliser must hear beyond a span."""
    return of_cascades([sections(settings, sample_rate_hz)])


def curve_db(settings: ToneSettings, frequency_hz: np.ndarray, sample_rate_hz: int) -> np.ndarray:
    """Return the equaliser's gain in dB at frequencies in Hz."""
    return filters.magnitude_db(sections(settings, sample_rate_hz), frequency_hz, sample_rate_hz)
