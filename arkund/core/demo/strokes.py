"""One stroke of each piece, synthesised from damped modes and shaped noise.

Each piece radiates one or two *stems* (beater and body of the kick, head and wires of the snare) that mics hear in
different mixtures. Harder strokes are brighter: upper modes and noise grow faster than the fundamental.

References
    N. Fletcher and T. Rossing, The Physics of Musical Instruments (1998), chapter 18: modes of circular membranes.
"""

from dataclasses import dataclass, field

import numpy as np
from scipy import signal

from arkund.core.demo import _kernels
from arkund.core.units import db_to_gain

LEVELS_DB = tuple(range(-32, 4, 4))  # strokes are made for these levels and scaled in between
VARIANTS = 3
# Ratios of the membrane's modes to the first (1,1 mode kept low by air load): Fletcher and Rossing, table 18.2
MEMBRANE = (1.0, 1.59, 2.14, 2.30, 2.65, 2.92, 3.16, 3.50, 3.60)


@dataclass(frozen=True, slots=True, kw_only=True)
class Voice:
    """What makes one drum or cymbal sound like itself; frequencies in Hz, decays are time constants in s."""

    family: str
    tune_hz: float = 100.0
    decay_s: float = 0.2
    loudness_db: float = 0.0  # at 1 m, against the other pieces
    ring_hz: float = 0.0  # a narrow ring that sticks out
    ring_db: float = -18.0
    ring_s: float = 0.35
    modes: tuple[float, ...] = field(default=MEMBRANE)


Stems = dict[str, np.ndarray]


def stroke(voice: Voice, articulation: str, level_db: float, seed: int, sample_rate_hz: int) -> Stems:
    """Return the stems of one stroke, each float32 (samples,), the loudest stem's peak at 1 for any level."""
    rng = np.random.default_rng(seed)
    hardness = float(db_to_gain(level_db / 2.0))  # brightness grows with the square root of the amplitude
    made = _FAMILIES[voice.family](voice, articulation, hardness, rng, sample_rate_hz)
    peak = max(np.max(np.abs(stem)) for stem in made.values())
    return {name: (stem / peak).astype(np.float32) for name, stem in made.items()}


def _time(length_s: float, rate: int) -> np.ndarray:
    return np.arange(int(length_s * rate)) / rate


def _modes(t, frequencies_hz, amplitudes, decays_s, rng, *, phase_spread: float = 0.3) -> np.ndarray:
    rate = 1.0 / (t[1] - t[0])
    out = np.zeros(t.size)
    decays = np.array(decays_s, float)
    _kernels.damped_modes(
        out,
        2 * np.pi * np.array(frequencies_hz, float) / rate,
        rng.uniform(-phase_spread, phase_spread, decays.size),
        np.array(amplitudes, float),
        np.exp(-1.0 / (decays * rate)),
        (7.0 * decays * rate).astype(np.int64) + 8,
    )
    return out


def noise(t, low_hz, high_hz, attack_s, decay_s, rng, rate) -> np.ndarray:
    """Return a band of noise over times t that rises and decays, of mean square 1 before it does."""
    high = min(high_hz, 0.47 * rate)
    sos = signal.butter(2, [low_hz, high], "bandpass", fs=rate, output="sos")
    burst = signal.sosfilt(sos, rng.standard_normal(t.size))
    shape = np.exp(-t / decay_s) * (1.0 - np.exp(-t / max(attack_s, 1e-5)))
    return burst * shape / (np.sqrt(np.mean(burst**2)) + 1e-12)


def _rise(stem: np.ndarray, rise_s: float, rate: int) -> np.ndarray:
    n = max(int(rise_s * rate), 2)
    stem[:n] *= np.sin(0.5 * np.pi * np.arange(n) / n) ** 2
    stem[-n:] *= np.linspace(1.0, 0.0, n)
    return stem


def _kick(voice, articulation, hardness, rng, rate) -> Stems:
    t = _time(0.9, rate)
    glide = voice.tune_hz * (1.0 + 0.55 * hardness * np.exp(-t / 0.018))
    turn = 2 * np.pi * np.cumsum(glide) / rate
    body = np.sin(turn) * np.exp(-t / voice.decay_s)
    upper = [m * voice.tune_hz * rng.uniform(0.99, 1.01) for m in voice.modes[1:7]]
    amplitudes = [0.45 * hardness / (k + 1) for k in range(6)]
    body += _modes(t, upper, amplitudes, [0.09 / (1 + 0.3 * k) for k in range(6)], rng)
    beater = 0.55 * hardness * noise(t, 1800, 5200, 0.0002, 0.004, rng, rate)
    beater += 0.5 * noise(t, 250, 1400, 0.0003, 0.007, rng, rate)
    return {"body": _rise(body, 0.0025, rate), "beater": _rise(0.7 * beater, 0.0004, rate)}


def _snare(voice, articulation, hardness, rng, rate) -> Stems:
    t = _time(0.7, rate)
    frequencies = [m * voice.tune_hz * rng.uniform(0.99, 1.01) for m in voice.modes]
    amplitudes = [1.0] + [0.6 * hardness / (1 + 0.25 * k) for k in range(len(frequencies) - 1)]
    decays = [voice.decay_s / (1.0 + 0.55 * k) for k in range(len(frequencies))]
    head = _modes(t, frequencies, amplitudes, decays, rng)
    if voice.ring_hz:
        head += _modes(t, [voice.ring_hz], [float(db_to_gain(voice.ring_db))], [voice.ring_s], rng)
    head += 0.35 * hardness * noise(t, 1500, 7000, 0.0001, 0.004, rng, rate)
    if articulation == "rim":
        head += 0.6 * _modes(t, [1750, 2610, 3420], [1, 0.7, 0.5], [0.012, 0.01, 0.008], rng)
    wires = noise(t, 1800, 11000, 0.0015, 0.055 + 0.05 * hardness, rng, rate)
    wires += 0.5 * noise(t, 4000, 14000, 0.0006, 0.03, rng, rate)
    wires *= 0.2 + 0.12 * (1.0 - hardness)
    return {"head": _rise(head, 0.0006, rate), "wires": _rise(wires, 0.0008, rate)}


def _tom(voice, articulation, hardness, rng, rate) -> Stems:
    t = _time(min(6.0 * voice.decay_s, 2.4), rate)
    glide = voice.tune_hz * (1.0 + 0.12 * hardness * np.exp(-t / 0.05))
    head = np.sin(2 * np.pi * np.cumsum(glide) / rate) * np.exp(-t / voice.decay_s)
    upper = [m * voice.tune_hz * rng.uniform(0.99, 1.01) for m in voice.modes[1:]]
    amplitudes = [0.5 * hardness / (1 + 0.4 * k) for k in range(len(upper))]
    head += _modes(t, upper, amplitudes, [voice.decay_s * 0.5 / (1 + 0.4 * k) for k in range(len(upper))], rng)
    head += 0.3 * hardness * noise(t, 1800, 6000, 0.0002, 0.005, rng, rate)
    return {"head": _rise(head, 0.001, rate)}


def _plate(t, low_hz, high_hz, count, decay_s, tilt, rng) -> np.ndarray:
    """Dense inharmonic modes: density and damping grow with frequency."""
    frequencies = low_hz * (high_hz / low_hz) ** np.sort(rng.uniform(0, 1, count) ** 0.8)
    amplitudes = rng.uniform(0.3, 1.0, count) * (frequencies / low_hz) ** tilt
    decays = decay_s * (low_hz / frequencies) ** 0.45 * rng.uniform(0.7, 1.3, count)
    return _modes(t, frequencies, amplitudes, decays, rng, phase_spread=np.pi)


def _hihat(voice, articulation, hardness, rng, rate) -> Stems:
    decay, length = {"closed": (0.045, 0.4), "open": (0.5, 2.0), "half": (0.18, 1.0), "foot": (0.03, 0.3)}[articulation]
    t = _time(length, rate)
    top = min(15_000, 0.46 * rate)
    if articulation == "foot":
        cymbal = _plate(t, 500, 6000, 50, decay, -0.3, rng)
        cymbal += 2.5 * noise(t, 900, 7000, 0.003, decay, rng, rate)
        return {"cymbal": _rise(cymbal, 0.002, rate)}
    cymbal = _plate(t, 900, top, 120, decay * 1.6, 0.15 + 0.3 * hardness, rng)
    cymbal += 7.0 * noise(t, 4500, top, 0.0004, decay, rng, rate)
    cymbal += 5.0 * hardness * noise(t, 2500, 9000, 0.0001, 0.005, rng, rate)
    return {"cymbal": _rise(cymbal, 0.0004, rate)}


def _ride(voice, articulation, hardness, rng, rate) -> Stems:
    t = _time(2.6, rate)
    ping = _plate(t, 2200, 6500, 24, 0.35, 0.0, rng) * 1.4
    wash = _plate(t, 350, min(13_000, 0.46 * rate), 160, 1.6, 0.1, rng) * (0.05 + 0.3 * hardness**2)
    wash *= 1.0 - np.exp(-t / 0.02)
    tip = 11.0 * noise(t, 2500, 10_000, 0.0002, 0.006, rng, rate)  # the stick stands well above the wash
    return {"cymbal": _rise(ping + wash + tip, 0.0004, rate)}


def _crash(voice, articulation, hardness, rng, rate) -> Stems:
    t = _time(3.0, rate)
    top = min(15_000, 0.46 * rate)
    wash = _plate(t, 280, top, 180, 1.5, 0.1 + 0.2 * hardness, rng) * (1.0 - 0.8 * np.exp(-t / 0.008))
    wash += 9.0 * hardness * noise(t, 2500, top, 0.004, 0.5, rng, rate)
    wash += 4.0 * noise(t, 1500, 8000, 0.0003, 0.008, rng, rate)
    return {"cymbal": _rise(wash, 0.0006, rate)}


def _sticks(voice, articulation, hardness, rng, rate) -> Stems:
    t = _time(0.12, rate)
    click = _modes(t, [1350, 2480, 3890, 5200], [1, 0.8, 0.5, 0.4], [0.012, 0.009, 0.006, 0.004], rng)
    return {"sticks": _rise(click, 0.0002, rate)}


_FAMILIES = {
    "kick": _kick,
    "snare": _snare,
    "tom": _tom,
    "hihat": _hihat,
    "ride": _ride,
    "crash": _crash,
    "sticks": _sticks,
}
