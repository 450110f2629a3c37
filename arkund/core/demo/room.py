"""Where pieces and mics stand, and what follows from it: arrival time, level and darkness of each sound in each mic.

Positions are metres: x to the drummer's left-right (audience view: right is positive), y away from the drummer towards
the audience, z up. Level falls with 1/distance; a directional mic hears what is off its axis softer and darker.
"""

from dataclasses import dataclass

import numpy as np

from arkund.core.demo.strokes import Voice
from arkund.core.units import db_to_gain, sound_speed_m_s

NEAREST_M = 0.03  # sources are not points: no closer than this for the distance law

PIECE_AT_M = {
    "kick": (0.0, 0.45, 0.30),
    "snare": (-0.25, 0.0, 0.65),
    "hihat": (-0.62, 0.05, 0.85),
    "tom1": (-0.16, 0.42, 0.88),
    "tom2": (0.20, 0.42, 0.86),
    "floor": (0.55, -0.05, 0.62),
    "ride": (0.62, 0.35, 0.98),
    "crash": (-0.50, 0.55, 1.25),
    "sticks": (0.0, 0.15, 1.15),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class MicPlace:
    """A mic: where it stands, what it points at, which stems of its piece it favours, how much room it hears."""

    name: str  # file name without ending
    role: str
    piece: str
    at_m: tuple[float, float, float]
    aim: str  # the piece on its axis; "" = hears all round
    stems: tuple[tuple[str, float], ...] = ()  # factor per stem of its own piece; others count 1
    polarity: int = 1
    room_db: float = -45.0
    peak_dbfs: float = -8.0  # what the loudest own (or any) stroke reaches in the raw file


def distance_m(a, b) -> float:
    """Return the distance between two points in metres."""
    return float(np.linalg.norm(np.subtract(a, b)))


def arrival_s(mic: MicPlace, piece: str, temperature_c: float = 20.0) -> float:
    """Return how long a piece's sound travels to a mic, in seconds."""
    return distance_m(mic.at_m, PIECE_AT_M[piece]) / sound_speed_m_s(temperature_c)


def heard(mic: MicPlace, piece: str, voice: Voice) -> tuple[float, float]:
    """Return the level (linear) and the darkness (0 bright .. 1 dark) of a piece's direct sound in a mic."""
    away = max(distance_m(mic.at_m, PIECE_AT_M[piece]), NEAREST_M)
    level = db_to_gain(voice.loudness_db) / away
    if not mic.aim:
        return level, 0.15
    axis = np.subtract(PIECE_AT_M[mic.aim], mic.at_m)
    to = np.subtract(PIECE_AT_M[piece], mic.at_m)
    cosine = float(np.dot(axis, to) / (np.linalg.norm(axis) * np.linalg.norm(to) + 1e-9))
    cardioid = 0.5 + 0.5 * cosine
    return level * (0.22 + 0.78 * cardioid), 0.85 * (1.0 - cardioid)


def usual_voices() -> dict[str, Voice]:
    """Return the voices of the demo kit."""
    return {
        "kick": Voice(family="kick", tune_hz=54.0, decay_s=0.16, loudness_db=0.0),
        "snare": Voice(family="snare", tune_hz=188.0, decay_s=0.11, loudness_db=0.0),
        "hihat": Voice(family="hihat", loudness_db=-13.0),
        "tom1": Voice(family="tom", tune_hz=148.0, decay_s=0.28, loudness_db=-1.0),
        "tom2": Voice(family="tom", tune_hz=117.0, decay_s=0.33, loudness_db=-1.0),
        "floor": Voice(family="tom", tune_hz=82.0, decay_s=0.42, loudness_db=0.0),
        "ride": Voice(family="ride", loudness_db=-15.0),
        "crash": Voice(family="crash", loudness_db=-6.0),
        "sticks": Voice(family="sticks", loudness_db=-17.0),
    }


def usual_mics() -> tuple[MicPlace, ...]:
    """Return the sixteen mics of the demo recording, named as files tend to be."""
    close = [
        MicPlace(
            name="KD in",
            role="in",
            piece="kick",
            at_m=(0.02, 0.40, 0.30),
            aim="kick",
            stems=(("beater", 1.2), ("body", 0.8)),
            peak_dbfs=-6.0,
        ),
        MicPlace(
            name="KD out",
            role="out",
            piece="kick",
            at_m=(0.05, 0.92, 0.33),
            aim="kick",
            stems=(("beater", 0.35), ("body", 1.0)),
            peak_dbfs=-9.0,
        ),
        MicPlace(
            name="Kik sub",
            role="sub",
            piece="kick",
            at_m=(0.1, 1.02, 0.30),
            aim="kick",
            stems=(("beater", 0.03), ("body", 1.0)),
            peak_dbfs=-11.0,
        ),
        MicPlace(
            name="SN top",
            role="top",
            piece="snare",
            at_m=(-0.22, 0.12, 0.71),
            aim="snare",
            stems=(("head", 1.0), ("wires", 0.35)),
            peak_dbfs=-5.0,
        ),
        MicPlace(
            name="Snr btm",
            role="bottom",
            piece="snare",
            at_m=(-0.25, 0.05, 0.48),
            aim="snare",
            stems=(("head", -0.35), ("wires", 1.6)),
            peak_dbfs=-11.0,
        ),
        MicPlace(name="HH", role="spot", piece="hihat", at_m=(-0.72, 0.07, 0.99), aim="hihat", peak_dbfs=-13.0),
        MicPlace(name="T1", role="close", piece="tom1", at_m=(-0.14, 0.53, 0.95), aim="tom1", peak_dbfs=-9.0),
        MicPlace(name="T2", role="close", piece="tom2", at_m=(0.22, 0.53, 0.93), aim="tom2", peak_dbfs=-12.0),
        MicPlace(name="FT", role="close", piece="floor", at_m=(0.60, 0.06, 0.70), aim="floor", peak_dbfs=-7.0),
        MicPlace(name="Ride", role="spot", piece="ride", at_m=(0.66, 0.40, 0.82), aim="ride", peak_dbfs=-16.0),
    ]
    far = [
        MicPlace(name="OH L", role="overhead", piece="kit", at_m=(-0.62, 0.25, 1.95), aim="tom1", room_db=-22.0),
        MicPlace(name="OH R", role="overhead", piece="kit", at_m=(0.68, 0.20, 1.98), aim="tom2", room_db=-22.0),
        MicPlace(
            name="Rm L",
            role="room",
            piece="kit",
            at_m=(-1.6, 3.1, 1.5),
            aim="",
            room_db=-6.0,
            peak_dbfs=-12.0,
        ),
        MicPlace(name="Rm R", role="room", piece="kit", at_m=(1.7, 3.0, 1.5), aim="", room_db=-6.0, peak_dbfs=-12.0),
        MicPlace(
            name="Rm mono",
            role="room",
            piece="kit",
            at_m=(0.1, 2.2, 0.5),
            aim="",
            room_db=-9.0,
            peak_dbfs=-10.0,
        ),
        MicPlace(name="Talkback", role="talkback", piece="kit", at_m=(-0.9, -0.4, 1.2), aim="", room_db=-14.0),
    ]
    return tuple(close + far)
