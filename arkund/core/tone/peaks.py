"""What stands out of a drum's own spectrum: its fundamental once the pitch has settled, a ring that outlasts it, and where it is boxy."""

from dataclasses import dataclass

import numpy as np
from scipy.ndimage import median_filter

from arkund.core.units import power_to_db

FUNDAMENTAL_HZ = {"kick": (38, 110), "snare": (130, 320), "floor": (50, 130)}
TOM_HZ = (70, 280)
BOX_HZ = {"kick": (200, 700), "snare": (400, 800)}
TOM_BOX_HZ = (350, 700)
RING_OCTAVES = 0.06  # to each side of a ring, that is not looked at for a box
EARLY_S, LATE_S = 0.12, 0.2
SETTLED_S = {"kick": 0.075, "snare": 0.03}  # after a stroke, when its pitch has come down
TOM_SETTLED_S = 0.12
NEAR = (0.84, 1.08)  # of the pitch at the stroke, where it settles
RING_HZ = (350.0, 2600.0)
RING_FROM_S, RING_S = 0.05, 0.26  # where a stroke itself is over
ABOVE_DB, RISES_DB = 16.0, 6.0  # its surroundings in the tail; from before the hit to after it
LOWEST_HZ, SOFTEST_DB = 40.0, 30.0  # against the strongest tone of the tail: what is softer is heard by nobody
MOST_CANDIDATES = 6
STEPS_S, PIECE_S = np.arange(0.04, 0.2, 0.02), 0.1  # at which a tone's level is followed, each over so long
STRAIGHT_DB = 1.5  # that a fall may be off a straight line in dB, rms
LASTS_S, OUTLASTS = (0.5, 8.0), 1.3  # a ring's T60, and against the fundamental's
TAIL_S, SAME_S, LEAST_ALONE = 0.33, 0.001, 6
FFT_SIZE = 1 << 16


@dataclass(frozen=True, slots=True)
class Ring:
    """A narrow tone that sticks out: how high above its surroundings, and how long it takes to fall by 60 dB."""

    frequency_hz: float
    above_db: float
    decay_s: float


def alone(times_s: list[float], every_s: list[float]) -> list[float]:
    """Return strokes of a drum after which it is not struck again before its tail is heard; those with most time where they are too few.

    every_s : all of its strokes, ghosts as well
    """
    every = np.sort(every_s)
    nexts = np.append(every, np.inf)[np.searchsorted(every, np.asarray(times_s) + SAME_S)]
    gaps = nexts - np.asarray(times_s)
    order = np.argsort(-np.minimum(gaps, TAIL_S), kind="stable")
    return [times_s[k] for k in order if gaps[k] >= TAIL_S or k in order[:LEAST_ALONE]]


def pitch_range_hz(piece: str) -> tuple[float, float] | None:
    """Return where a drum's fundamental may lie; None for what has none."""
    return FUNDAMENTAL_HZ.get(piece, TOM_HZ if piece.startswith("tom") else None)


def power(windows: list[np.ndarray], rate: int) -> tuple[np.ndarray, np.ndarray]:
    """Return the mean power spectrum of windows [shape=(samples,) each], as frequencies in Hz and powers; a window counts by its shape, not its level."""
    total = np.zeros(FFT_SIZE // 2 + 1)
    for each in windows:
        total += np.abs(np.fft.rfft(each, FFT_SIZE)) ** 2 / (np.sum(np.square(each, dtype=np.float64)) + 1e-12)
    return np.fft.rfftfreq(FFT_SIZE, 1 / rate), total / max(len(windows), 1)


def fundamental_hz(read, starts: list[int], piece: str, rate: int) -> float | None:
    """Return a drum's pitch once it has settled: the strongest tone of the stroke, as it is a little later.

    read(start, stop) gives its mic; starts : samples at which strokes begin that no other drum follows.
    """
    limits = pitch_range_hz(piece)
    if not starts or limits is None:
        return None
    early = _strongest(windows(read, starts, 0.0, EARLY_S, rate), limits, rate)
    settled_s = SETTLED_S.get(piece, TOM_SETTLED_S)
    near = (NEAR[0] * early, NEAR[1] * early)
    return round(_strongest(windows(read, starts, settled_s, LATE_S, rate), near, rate), 1)


def ring(read, starts: list[int], pitch_hz: float | None, rate: int) -> Ring | None:
    """Return the tone that rings on after a drum's strokes: narrow, its own, falling evenly, and for longer than the drum itself; None where there is none."""
    if len(starts) < 3:
        return None
    frequencies, found = power(windows(read, starts, RING_FROM_S, RING_S, rate), rate)
    level = power_to_db(found + 1e-12)
    own_s = decay_s(read, starts, pitch_hz, rate) if pitch_hz else None
    least_s = max(LASTS_S[0], OUTLASTS * (own_s or 0.0))
    loudest_db = float(np.max(level[frequencies >= LOWEST_HZ]))
    for at, above_db in _candidates(frequencies, level):
        if level[at] < loudest_db - SOFTEST_DB:
            continue
        hz = _between(frequencies, level, at)
        if _rises_db(read, starts, hz, rate) < RISES_DB:
            continue
        lasts = decay_s(read, starts, hz, rate)
        if lasts is not None and least_s <= lasts <= LASTS_S[1]:
            return Ring(round(hz, 1), round(above_db, 1), round(lasts, 2))
    return None


def box_hz(
    read, starts: list[int], piece: str, rate: int, without_hz: float | None = None
) -> tuple[float, float] | None:
    """Return where a drum is boxy, and by how much: the third-octave that stands highest over a straight line through the octaves around it, in Hz and dB.

    without_hz : a ring, which is no box: what lies next to it does not count
    """
    limits = BOX_HZ.get(piece, TOM_BOX_HZ if piece.startswith("tom") or piece == "floor" else None)
    if not starts or limits is None:
        return None
    frequencies, found = power(windows(read, starts, 0.0, EARLY_S, rate), rate)
    if without_hz:
        apart = np.abs(np.log2(np.maximum(frequencies, 1.0) / without_hz))
        found = np.where(
            apart < RING_OCTAVES,
            np.interp(frequencies, frequencies[apart >= RING_OCTAVES], found[apart >= RING_OCTAVES]),
            found,
        )
    centres = np.geomspace(limits[0] / 2.0, limits[1] * 2.0, 96)
    edges = 2.0 ** (1.0 / 6.0)
    sums = np.concatenate([[0.0], np.cumsum(found)])
    low, high = (np.searchsorted(frequencies, centres * factor) for factor in (1.0 / edges, edges))
    level = power_to_db((sums[high] - sums[low]) / np.maximum(high - low, 1) + 1e-12)
    octaves = np.log2(centres)
    line = np.polyval(np.polyfit(octaves, level, 1), octaves)
    inside = (centres >= limits[0]) & (centres <= limits[1])
    over = np.where(inside, level - line, -np.inf)
    best = int(np.argmax(over))
    return round(float(centres[best]), 1), round(float(over[best]), 1)


def decay_s(read, starts: list[int], frequency_hz: float, rate: int) -> float | None:
    """Return how long a tone takes to fall by 60 dB after strokes, by a straight line through its level in dB; None where it does not fall evenly."""
    rows = [
        [_tone_db(read, at + round(after_s * rate), frequency_hz, PIECE_S, rate) for after_s in STEPS_S]
        for at in starts
    ]
    levels = np.median(rows, axis=0)
    slope, first = np.polyfit(STEPS_S, levels, 1)
    off = float(np.sqrt(np.mean((levels - np.polyval((slope, first), STEPS_S)) ** 2)))
    return float(-60.0 / slope) if slope < -1.0 and off <= STRAIGHT_DB else None


def windows(read, starts: list[int], from_s: float, length_s: float, rate: int) -> list[np.ndarray]:
    """Return parts of strokes, each faded: at both ends, or from the stroke itself on to its end alone."""
    size, later = round(length_s * rate), round(from_s * rate)
    shape = np.hanning(2 * size)[size:] if from_s == 0.0 else np.hanning(size)
    return [read(at + later, at + later + size) * shape for at in starts]


def _strongest(pieces: list[np.ndarray], limits: tuple[float, float], rate: int) -> float:
    frequencies, found = power(pieces, rate)
    band = np.flatnonzero((frequencies >= limits[0]) & (frequencies <= limits[1]))
    return _between(frequencies, power_to_db(found + 1e-12), int(band[np.argmax(found[band])]))


def _between(frequencies: np.ndarray, level: np.ndarray, at: int) -> float:
    """Return where a peak lies between points, by a parabola through three of them in dB."""
    a, b, c = level[at - 1 : at + 2]
    bend = a - 2.0 * b + c
    shift = 0.5 * (a - c) / bend if bend < 0.0 else 0.0
    return float(frequencies[at] + np.clip(shift, -0.5, 0.5) * (frequencies[1] - frequencies[0]))


def _candidates(frequencies: np.ndarray, level: np.ndarray) -> list[tuple[int, float]]:
    """Return the peaks that stand highest above their surroundings, as place and dB above these."""
    points = np.geomspace(RING_HZ[0] / 1.3, RING_HZ[1] * 1.3, 400)
    surroundings = median_filter(np.interp(points, frequencies, level), 61)  # a quarter octave to each side
    band = np.flatnonzero((frequencies >= RING_HZ[0]) & (frequencies <= RING_HZ[1]))
    above = level[band] - np.interp(frequencies[band], points, surroundings)
    peaks = np.flatnonzero((above[1:-1] > above[:-2]) & (above[1:-1] >= above[2:]) & (above[1:-1] >= ABOVE_DB)) + 1
    order = peaks[np.argsort(-above[peaks])][:MOST_CANDIDATES]
    return [(int(band[k]), float(above[k])) for k in order]


def _rises_db(read, starts: list[int], frequency_hz: float, rate: int) -> float:
    """Return by how much a tone is louder after strokes than before them: what another drum leaves in the mic is there before as well."""
    before, after = (
        [_tone_db(read, at + round(after_s * rate), frequency_hz, 0.06, rate) for at in starts]
        for after_s in (-0.075, 0.05)
    )
    return float(np.median(np.subtract(after, before)))


def _tone_db(read, at: int, frequency_hz: float, length_s: float, rate: int) -> float:
    size = round(length_s * rate)
    turn = np.exp(-2j * np.pi * frequency_hz / rate * np.arange(size)) * np.hanning(size)
    return float(power_to_db(np.abs(np.dot(read(at, at + size), turn)) ** 2 + 1e-12))
