"""A mic's spectrum during its own hits, between hits, and during others' hits; fundamental, ring and box."""

import itertools
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.spectrum import axis_hz, spectrum_db, tukey
from arkund.core.kit.pieces import is_shell
from arkund.core.units import power_to_db

OWN_S = 0.12  # of each own hit
ALONE_S = 0.05
MOST_WINDOWS = 60
FUNDAMENTAL_HZ = {"kick": (38, 110), "snare": (130, 320), "floor": (50, 130)}
TOM_HZ = (70, 280)
RING_HZ = (350.0, 2600.0)
RING_ABOVE_DB = 7.0
RING_RISES_DB = 6.0  # with the own hits


@dataclass(frozen=True, slots=True)
class Ring:
    """A narrow tone that sticks out: how high above its surroundings, and how long it takes to fall by 60 dB."""

    frequency_hz: float
    above_db: float
    decay_s: float


@dataclass(frozen=True, slots=True)
class ToneMeasure:
    """Spectra in dB on one axis in Hz."""

    mic: str
    axis_hz: tuple[float, ...]
    own_db: tuple[float, ...]
    between_db: tuple[float, ...]
    others_db: tuple[float, ...]
    fundamental_hz: float | None
    ring: Ring | None


def measure(read, length: int, mic, hits: dict, sample_rate_hz: int) -> ToneMeasure:
    """Measure one mic; read(start, stop) gives its audio, hits are in the time of what is read."""
    rate = sample_rate_hz
    own = _strongest(hits.get(mic.piece, [])) if mic.piece != "kit" else _strongest(hits.get("snare", []))
    everything = np.sort([h.time_s for hs in hits.values() for h in hs])
    own_times = np.sort([h.time_s for h in hits.get(mic.piece, [])])
    size = int(OWN_S * rate)
    own_windows = [_faded(read(_at(h, rate), _at(h, rate) + size)) for h in own]
    between = [_faded(read(int(t * rate), int(t * rate) + size)) for t in _gaps(everything, length / rate)]
    others = [h for p, hs in hits.items() if p != mic.piece for h in _strongest(hs)[:20] if _far(h.time_s, own_times)]
    other_windows = [_faded(read(_at(h, rate), _at(h, rate) + size)) for h in others[:MOST_WINDOWS]]
    own_db = spectrum_db(own_windows, rate)
    fundamental = _fundamental(own_windows, mic.piece, rate)
    ring = _ring(read, own, rate, fundamental) if is_shell(mic.piece) else None
    return ToneMeasure(
        mic.id,
        tuple(np.round(axis_hz(rate), 2).tolist()),
        tuple(np.round(own_db, 2).tolist()),
        tuple(np.round(spectrum_db(between, rate), 2).tolist()),
        tuple(np.round(spectrum_db(other_windows, rate), 2).tolist()),
        fundamental,
        ring,
    )


def _strongest(hits) -> list:
    return sorted((h for h in hits if not h.ghost), key=lambda h: -h.level_db)[:MOST_WINDOWS]


def _at(hit, rate: int) -> int:
    return int((hit.time_s - 0.002) * rate)


def _faded(part: np.ndarray) -> np.ndarray:
    return part * tukey(part.size, 0.1)


def _far(time_s: float, times: np.ndarray) -> bool:
    return times.size == 0 or float(np.min(np.abs(times - time_s))) > ALONE_S


def _gaps(times: np.ndarray, length_s: float) -> list[float]:
    edges = np.concatenate([times, [length_s]])
    gaps = [(b - a, a) for a, b in itertools.pairwise(edges) if b - a > OWN_S + 0.06]
    return [b_start + gap - OWN_S - 0.01 for gap, b_start in sorted(gaps, reverse=True)[:MOST_WINDOWS]]


def _power(windows: list[np.ndarray], rate: int) -> tuple[np.ndarray, np.ndarray]:
    size = 1 << 16
    power = sum(np.abs(np.fft.rfft(w, size)) ** 2 for w in windows) / max(len(windows), 1)
    return np.fft.rfftfreq(size, 1 / rate), power


def _fundamental(windows: list[np.ndarray], piece: str, rate: int) -> float | None:
    low, high = FUNDAMENTAL_HZ.get(piece, TOM_HZ if piece.startswith("tom") else (0, 0))
    if not windows or not high:
        return None
    frequencies, power = _power(windows, rate)
    band = (frequencies >= low) & (frequencies <= high)
    return round(float(frequencies[band][np.argmax(power[band])]), 1)


def _ring(read, own: list, rate: int, fundamental: float | None) -> Ring | None:
    """Look for a narrow peak in the tail of the own hits, where the stroke itself is over."""
    if len(own) < 3:
        return None
    start, size = int(0.05 * rate), int(0.18 * rate)
    tails = [read(_at(h, rate) + start, _at(h, rate) + start + size) * np.hanning(size) for h in own]
    frequencies, power = _power(tails, rate)
    level = power_to_db(power)
    band = np.flatnonzero((frequencies >= RING_HZ[0]) & (frequencies <= RING_HZ[1]))
    smooth = np.array(
        [
            np.median(level[np.searchsorted(frequencies, f / 2**0.25) : np.searchsorted(frequencies, f * 2**0.25)])
            for f in frequencies[band[::8]]
        ]
    )
    above = level[band] - np.interp(frequencies[band], frequencies[band[::8]], smooth)
    best = int(np.argmax(above))
    if above[best] < RING_ABOVE_DB + 6.0:
        return None
    frequency = float(frequencies[band[best]])
    if not _is_own(read, own, frequency, rate):
        return None
    return Ring(round(frequency, 1), round(float(above[best]), 1), _decay_s(read, own, frequency, rate))


def _is_own(read, own: list, frequency: float, rate: int) -> bool:
    """Say whether a tone comes with a drum's own hits: what another drum leaves in the mic is there before them as well."""
    rises = []
    for hit in own:
        before, after = (
            _tone_power(read, _at(hit, rate) + int(at_s * rate), frequency, rate) for at_s in (-0.075, 0.05)
        )
        rises.append(power_to_db(after + 1e-12) - power_to_db(before + 1e-12))
    return float(np.median(rises)) >= RING_RISES_DB


def _tone_power(read, at: int, frequency: float, rate: int) -> float:
    t = np.arange(int(0.06 * rate)) / rate
    return float(np.abs(np.sum(read(at, at + t.size) * np.exp(-2j * np.pi * frequency * t) * np.hanning(t.size))) ** 2)


def _decay_s(read, own: list, frequency: float, rate: int) -> float:
    def level(after_s: float) -> float:
        return float(np.mean([_tone_power(read, _at(h, rate) + int(after_s * rate), frequency, rate) for h in own]))

    early, late = level(0.04), level(0.14)
    fall = power_to_db(early) - power_to_db(late)
    return round(min(60.0 * 0.1 / max(fall, 1.0), 9.9), 2)
