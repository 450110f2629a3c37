"""The answers of the sheets: lines of words and figures."""

import math
from dataclasses import dataclass

import numpy as np

from arkund.core.replace.notes import name_of
from arkund.core.timing.note_values import LONGER, VALUES, note_ms
from arkund.core.tools.compressor import Compressor, static_reduction_db
from arkund.core.units import db_to_gain, db_to_power, gain_to_db, ms_to_cm, ms_to_samples, sound_speed_m_s

NOTCHES = 4
DEEPEST_DB = -120.0
NAMES = {"": "", ".": " dotted", "t": " triplet"}


@dataclass(frozen=True, slots=True)
class Line:
    """What is told: words, a figure, its unit."""

    words: str
    value: float
    unit: str
    places: int = 2

    @property
    def text(self) -> str:
        """The figure with its unit, a true minus before it where it is negative."""
        return f"{self.value:.{self.places}f} {self.unit}".strip().replace("-", "−")


def pitch(hz: float, temperature_c: float) -> list[Line]:
    """Return a frequency's note, by how much it is off, its octaves and its wavelength in air."""
    name, cents = name_of(hz)
    return [
        Line("frequency", hz, "Hz"),
        Line(f"above {name}", cents, "cents", 1),
        Line("an octave below", hz / 2.0, "Hz"),
        Line("an octave above", hz * 2.0, "Hz"),
        Line("one period", 1000.0 / hz, "ms", 3),
        Line("wavelength", 100.0 * sound_speed_m_s(temperature_c) / hz, "cm", 1),
    ]


def way(ms: float, temperature_c: float, rate_hz: float) -> list[Line]:
    """Return a delay as samples and as a distance."""
    return [
        Line("samples", float(ms_to_samples(ms, rate_hz)), "", 2),
        Line("distance", ms_to_cm(ms, temperature_c), "cm", 1),
        Line("one sample", 1e6 / rate_hz, "µs", 1),
        Line("sound travels", sound_speed_m_s(temperature_c), "m/s", 1),
    ]


def comb(ms: float, softer_db: float, inverted: float) -> list[Line]:
    """Return where two paths cancel and add up: in polarity they cancel at odd multiples of 1 / (2 d), inverted at multiples of 1 / d."""
    share = float(db_to_gain(-softer_db))
    first = 1000.0 / ms
    flipped = inverted >= 0.5
    notches = [first * k for k in range(NOTCHES)] if flipped else [first * (k + 0.5) for k in range(NOTCHES)]
    peaks = [first * (k + 0.5) for k in range(2)] if flipped else [first * k for k in range(2)]
    deepest = max(float(gain_to_db(1.0 - share)), DEEPEST_DB)
    out = [Line("cancels at", hz, "Hz", 1) for hz in notches]
    out += [Line("adds up at", hz, "Hz", 1) for hz in peaks]
    return [
        *out,
        Line("at its deepest", deepest, "dB", 1),
        Line("at its highest", float(gain_to_db(1.0 + share)), "dB"),
    ]


def tempo(bpm: float) -> list[Line]:
    """Return how long note values last, straight, dotted and as triplets."""
    return [Line(f"{value}{NAMES[kind]}", note_ms(value + kind, bpm), "ms", 1) for value in VALUES for kind in LONGER]


def level(db: float) -> list[Line]:
    """Return a level as ratios of amplitude and of power, and what two equal sounds of it give together."""
    return [
        Line("amplitude", float(db_to_gain(db)), ": 1", 4),
        Line("power", float(db_to_power(db)), ": 1", 4),
        Line("twice the same sound", db + float(gain_to_db(2.0)), "dB"),
        Line("with another as loud", db + 0.5 * float(gain_to_db(2.0)), "dB"),
    ]


def compressor(in_db: float, threshold_db: float, ratio: float, knee_db: float, makeup_db: float) -> list[Line]:
    """Return what leaves a compressor of a level that stands still, and the threshold at which as much again would be taken."""
    settings = Compressor(threshold_db=threshold_db, ratio=ratio, knee_db=knee_db, makeup_db=makeup_db)
    taken = float(static_reduction_db(np.array(in_db), settings))
    return [
        Line("reduction", taken, "dB"),
        Line("level out", in_db - taken + makeup_db, "dB"),
        Line("over the threshold", in_db - threshold_db, "dB"),
    ]


def bandwidth(hz: float, q: float) -> list[Line]:
    """Return the band of a Q: its edges lie as far from the centre on a scale of octaves, and centre / (upper - lower) = Q."""
    octaves = 2.0 / math.log(2.0) * math.asinh(1.0 / (2.0 * q))
    half = 2.0 ** (octaves / 2.0)
    return [
        Line("wide", octaves, "octaves"),
        Line("from", hz / half, "Hz", 1),
        Line("up to", hz * half, "Hz", 1),
        Line("between them", hz / q, "Hz", 1),
    ]


def decay(fall_db: float, ms: float) -> list[Line]:
    """Return how long a ring that falls by so much takes to fall by 60 dB, and its time constant."""
    per_db = ms / fall_db
    return [
        Line("falls by 60 dB in", 60.0 * per_db / 1000.0, "s", 3),
        Line("falls by", 1000.0 / per_db, "dB/s", 1),
        Line("to 37 % in", 20.0 * math.log10(math.e) * per_db, "ms", 1),
    ]
