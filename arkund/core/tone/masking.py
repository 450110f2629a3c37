"""Who is heard where: by third of an octave the loudest strip at a drum's strokes, and where two are so near that each hides the other."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.spectrum import third_octaves_hz, window_starts
from arkund.core.tools.tone import Band
from arkund.core.units import power_to_db

BANDS_HZ = tuple(round(float(f), 1) for f in third_octaves_hz(40.0, 12_500.0))
EARLY_S, LENGTH_S, MOST_HITS = 0.004, 0.12, 32
FIGHT_DB = 3.0
QUIET_DB = 40.0  # below the loudest band (of equal octaves): nobody hears who wins there
PART_DB = 3.0  # by which the one that gives way is cut
Q = (0.8, 4.0)


@dataclass(frozen=True, slots=True)
class Fight:
    """Two strips within FIGHT_DB of each other over some bands, from and up to Hz; the second is the softer one, by so many dB at the nearest."""

    first: str
    second: str
    from_hz: float
    up_to_hz: float
    apart_db: float


@dataclass(frozen=True, slots=True)
class Masking:
    """At a drum's strokes: the loudest strip of each of BANDS_HZ ("" where hardly anything sounds), by how much it leads, in dB, and who fights."""

    loudest: tuple[str, ...]
    leads_db: tuple[float, ...]
    fights: tuple[Fight, ...]


def masking(strips: Mapping[str, np.ndarray], hits_s: Sequence[float], sample_rate_hz: int) -> Masking | None:
    """Measure strips as they add up to the kit, float32 [each shape=(samples,) or (samples, 2)], at strokes in s from their start; None without strokes."""
    levels = _levels_db(strips, hits_s, sample_rate_hz)
    if levels is None:
        return None
    names, rows = list(levels), np.array(list(levels.values()))
    order = np.argsort(-rows, axis=0)
    best, second = (
        np.take_along_axis(rows, order[k : k + 1], axis=0)[0] if len(names) > k else np.full(rows.shape[1], -np.inf)
        for k in (0, 1)
    )
    heard = best >= best.max() - QUIET_DB
    leads = np.minimum(best - second, 99.0)
    loudest = tuple(names[k] if ok else "" for k, ok in zip(order[0].tolist(), heard.tolist(), strict=True))
    fights = _fights(names, order, leads, heard) if len(names) > 1 else ()
    return Masking(loudest, tuple(np.round(leads, 1).tolist()), fights)


def _levels_db(strips: Mapping[str, np.ndarray], hits_s: Sequence[float], rate: int) -> dict[str, np.ndarray] | None:
    """Return each strip's level in thirds of octaves, every octave counting the same."""
    size, lead = int(LENGTH_S * rate), int(EARLY_S * rate)
    length = min((x.shape[0] for x in strips.values()), default=0)
    begins = window_starts(hits_s, EARLY_S, size, length, rate, MOST_HITS)
    if not begins:
        return None
    fft = 1 << int(np.ceil(np.log2(2 * size)))
    hz = np.fft.rfftfreq(fft, 1.0 / rate)
    low, high = (np.searchsorted(hz, np.array(BANDS_HZ) * 2.0 ** (side / 6.0)) for side in (-1.0, 1.0))
    fade, out = np.hanning(2 * size)[size:], {}
    fade[:lead] *= np.hanning(2 * lead)[:lead]
    for name, x in strips.items():
        power = np.zeros(hz.size)
        for b in begins:
            part = x[b : b + size]
            for side in part.T if part.ndim == 2 else (part,):
                power += np.abs(np.fft.rfft(side * fade, fft)) ** 2
        sums = np.concatenate([[0.0], np.cumsum(power)])
        out[name] = power_to_db((sums[np.maximum(high, low + 1)] - sums[low]) / len(begins) + 1e-12)
    return out


def _fights(names: list[str], order: np.ndarray, leads: np.ndarray, heard: np.ndarray) -> tuple[Fight, ...]:
    """Return the pairs that are near each other, neighbouring bands together, the widest first."""
    out, k, step = [], 0, 2.0 ** (1.0 / 6.0)
    near = heard & (leads <= FIGHT_DB)
    while k < near.size:
        if not near[k]:
            k += 1
            continue
        pair, first = {*order[:2, k].tolist()}, k
        while k < near.size and near[k] and {*order[:2, k].tolist()} == pair:
            k += 1
        at = first + int(np.argmin(leads[first:k]))
        one, other = (names[row] for row in order[:2, at].tolist())
        out.append(
            (
                k - first,
                Fight(
                    one,
                    other,
                    round(BANDS_HZ[first] / step, 1),
                    round(BANDS_HZ[k - 1] * step, 1),
                    round(float(leads[at]), 1),
                ),
            )
        )
    return tuple(fight for _, fight in sorted(out, key=lambda row: -row[0]))


def parting(fight: Fight) -> Band:
    """Return the bell by which one of two that fight gives way: as wide as the fight."""
    centre = float(np.sqrt(fight.from_hz * fight.up_to_hz))
    half = float(np.sqrt(fight.up_to_hz / fight.from_hz))
    q = float(np.clip(1.0 / (half - 1.0 / half), *Q))
    return Band(frequency_hz=round(centre, 1), gain_db=-PART_DB, q=round(q, 2))
