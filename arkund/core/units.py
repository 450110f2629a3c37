"""Conversions between units. Nowhere else in Arkund is a decibel or a sample count computed by hand."""

import math

import numpy as np

SILENCE_DB = -180.0  # floor of all level figures; below 24-bit and float32 noise
DB_PER_OCTAVE = 20.0 * math.log10(2.0)  # of amplitude: a factor of two
CELSIUS_ZERO_K = 273.15
SOUND_AT_0_C_M_S = 331.3  # speed of sound in dry air at 0 degrees C


def db_to_gain(level_db):
    """Return the linear amplitude factor of a level in dB (scalar or array)."""
    return np.power(10.0, np.asarray(level_db, dtype=np.float64) / 20.0)[()]


def gain_to_db(gain):
    """Return the level in dB of a linear amplitude, real or complex (scalar or array), never below SILENCE_DB."""
    magnitude = np.asarray(np.abs(gain), dtype=np.float64)
    return (20.0 * np.log10(np.maximum(magnitude, 10.0 ** (SILENCE_DB / 20.0))))[()]


def peak_db(audio) -> float:
    """Return the level in dBFS of the highest sample of audio [any shape], SILENCE_DB for nothing."""
    return float(gain_to_db(np.abs(audio).max(initial=0.0)))


def db_to_power(level_db):
    """Return the mean square of a level in dB (scalar or array)."""
    return np.power(10.0, np.asarray(level_db, dtype=np.float64) / 10.0)[()]


def power_to_db(power):
    """Return the level in dB of a mean square (scalar or array), never below SILENCE_DB."""
    return (10.0 * np.log10(np.maximum(np.asarray(power, dtype=np.float64), 10.0 ** (SILENCE_DB / 10.0))))[()]


def samples(time_s: float, sample_rate_hz: int) -> int:
    """Return the sample nearest to a time in seconds."""
    return round(time_s * sample_rate_hz)


def ms_to_samples(time_ms: float, sample_rate_hz: int) -> float:
    """Return a duration in ms as a (fractional) number of samples."""
    return time_ms * sample_rate_hz / 1000.0


def sound_speed_m_s(temperature_c: float = 20.0) -> float:
    """Return the speed of sound in air: 331.3 * sqrt(1 + T / 273.15) m/s."""
    return SOUND_AT_0_C_M_S * math.sqrt(1.0 + temperature_c / CELSIUS_ZERO_K)


def ms_to_cm(delay_ms: float, temperature_c: float = 20.0) -> float:
    """Return the distance in cm that sound travels in a time in ms."""
    return delay_ms / 10.0 * sound_speed_m_s(temperature_c)
