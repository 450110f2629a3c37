"""Several mics of one kick share its range: the lowest carries the bottom, the next the body, the last the beater, by filters that fit each other.

At each place where two of them part, one has a low-pass and the other a high-pass of 24 dB/octave, each made of two Butterworth filters of 12: both turn
phase alike and add up to one (S. Linkwitz, J. Audio Eng. Soc. 24 (1976)). Where they part, and how loud each is, is found by what the sum measures.
"""

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from arkund.core.dsp.spectrum import window_starts
from arkund.core.findings import Finding
from arkund.core.replace.low_end import MAIN_HZ
from arkund.core.rig import rows
from arkund.core.tools.tone import Band, Tone, sections
from arkund.core.units import db_to_gain, gain_to_db, power_to_db

ORDER = {"sub": 0, "out": 1, "close": 1, "in": 2}  # who carries what, by role: the lowest first
LOW_HZ, HIGH_HZ = (60.0, 75.0, 90.0, 110.0, 135.0, 165.0), (350.0, 500.0, 700.0, 1000.0, 1400.0)
LENGTH_S, EARLY_S, MOST_HITS = 0.25, 0.01, 24
LOWEST_HZ, HIGHEST_HZ = 25.0, 8000.0
THIRDS_HZ = tuple((f / 2.0 ** (1 / 6), f * 2.0 ** (1 / 6)) for f in np.geomspace(40.0, 7000.0, 24).tolist())
MOST_LOWEST_DB, MOST_OTHERS_DB, SPARE_DB = 12.0, 6.0, 0.3  # by which levels are moved; of low end more than before
USUAL_HZ, AWAY_DB = (90.0, 600.0), 0.2  # where they usually part; what an octave away from there counts
ID = "split"


@dataclass(frozen=True, slots=True)
class Part:
    """What one mic is left with: its range in Hz (None where it is open) and by how much louder it is, in dB."""

    mic: str
    from_hz: float | None
    up_to_hz: float | None
    gain_db: float

    @property
    def tool(self) -> Tone:
        """The equaliser that leaves it that."""
        bands = ()
        if self.from_hz:
            bands += (Band(kind="high_pass", frequency_hz=self.from_hz, slope_db=12),) * 2
        if self.up_to_hz:
            bands += (Band(kind="low_pass", frequency_hz=self.up_to_hz, slope_db=12),) * 2
        return Tone(id=ID, on=True, bands=bands)


@dataclass(frozen=True, slots=True)
class Split:
    """Who carries what, lowest first; by how much the sum's main band changes, in dB; how far its thirds of octaves are from before, rms in dB."""

    parts: tuple[Part, ...]
    main_change_db: float
    apart_db: float


def in_order(mics: Sequence) -> list:
    """Return the mics (.role) that can share a kick's range, the lowest first; one of a kind."""
    known: dict[int, object] = {}
    for mic in mics:
        if mic.role in ORDER:
            known.setdefault(ORDER[mic.role], mic)
    return [known[place] for place in sorted(known)]


def split(strips: Mapping[str, np.ndarray], hits_s: Sequence[float], sample_rate_hz: int) -> Split | None:
    """Return how some strips of a kick, the lowest first, share its range so that its low end never falls; None with fewer than two, or where that cannot be.

    strips : float32 [each shape=(samples,)] at their levels; hits_s : in s from their start
    """
    if len(strips) < 2:
        return None
    spectra = _spectra(strips, hits_s, sample_rate_hz)
    if spectra is None:
        return None
    names, hz = list(strips), _heard_hz(sample_rate_hz)
    before = _power(sum(spectra.values()))
    places = (LOW_HZ, HIGH_HZ) if len(names) > 2 else (((*LOW_HZ, *HIGH_HZ[:2]),))
    apart, shared = [], []
    for edges in itertools.product(*places):
        ranges = list(zip((None, *edges), (*edges, None), strict=True))
        apart.append(_at(names, ranges, spectra, before, hz, sample_rate_hz))
        if len(names) > 2:  # where the lowest is too weak by itself, the next one keeps its bottom
            ranges[1] = (None, ranges[1][1])
            shared.append(_at(names, ranges, spectra, before, hz, sample_rate_hz))
    found = [one for one in apart if one] or [one for one in shared if one]
    return min(found, key=_cost, default=None)


def _cost(one: Split) -> float:
    """Return what decides between splits: how far the sum's tone moves, and a little how far from the usual places they part."""
    parted = [part.up_to_hz for part in one.parts if part.up_to_hz]
    usual = USUAL_HZ if len(parted) > 1 else USUAL_HZ[:1]
    away = sum(abs(np.log2(hz / where)) for hz, where in zip(parted, usual, strict=True))
    return one.apart_db + AWAY_DB * away


def propose(parts: Split, mics: Mapping[str, Any], levels_db: Mapping[str, float], change_db: float) -> Finding:
    """Return a split as a Finding. mics : the mics by id; levels_db : what their levels become; change_db : of the sum's main band, as rendered"""
    changes: dict[str, Any] = {}
    told = []
    for part in parts.parts:
        mic = mics[part.mic]
        row = rows.with_own_id(mic.tools, part.tool)
        changes[f"mics.{mic.id}.tools"] = [tool.to_json() for tool in row]
        changes[f"mics.{mic.id}.level_db"] = levels_db[mic.id]
        ends = [
            f"from {part.from_hz:.0f}" if part.from_hz else "",
            f"up to {part.up_to_hz:.0f}" if part.up_to_hz else "",
        ]
        told.append(f"{mic.name} {' '.join(each for each in ends if each)} Hz, {part.gain_db:+.1f} dB")
    why = (
        f"{'; '.join(told)}. Rendered at kicks, {MAIN_HZ[0]:.0f} to {MAIN_HZ[1]:.0f} Hz of the sum change by {change_db:+.1f} dB,"
        f" its tone by {parts.apart_db:.1f} dB (rms, thirds of octaves): the mics stop fighting for the same range."
    )
    return Finding(
        "tone",
        "tone:split",
        parts.parts[0].mic,
        "Or: the kick's mics share its range",
        why,
        changes,
        first_choice=False,
    )


def _at(names, ranges, spectra, before, hz, rate) -> Split | None:
    """Return the split at some places, its levels matched: the lowest by the main band of the sum, the others each by its own range; None where that falls."""
    filtered = {}
    for name, (low, high) in zip(names, ranges, strict=True):
        response = np.ones(hz.size, complex)
        for section in sections(Part(name, low, high, 0.0).tool, rate):
            response = response * section.response(hz, rate)
        filtered[name] = spectra[name] * response
    gains = dict.fromkeys(names, 1.0)
    for name, (low, high) in list(zip(names, ranges, strict=True))[1:]:
        band = (low or MAIN_HZ[0], high or HIGHEST_HZ)
        off = _level_db(before, hz, band) - _level_db(_power(filtered[name]), hz, band)
        gains[name] = float(db_to_gain(np.clip(off, -MOST_OTHERS_DB, MOST_OTHERS_DB)))
    rest = sum(gains[name] * filtered[name] for name in names[1:])
    wanted = _level_db(before, hz, MAIN_HZ) + SPARE_DB
    gains[names[0]] = _lowest(filtered[names[0]], rest, wanted, hz)
    after = _power(gains[names[0]] * filtered[names[0]] + rest)
    change = _level_db(after, hz, MAIN_HZ) - wanted + SPARE_DB
    if change < 0.0:
        return None
    off = [_level_db(after, hz, third) - _level_db(before, hz, third) for third in THIRDS_HZ]
    parts = [
        Part(name, low, high, round(float(gain_to_db(gains[name])), 1))
        for name, (low, high) in zip(names, ranges, strict=True)
    ]
    return Split(tuple(parts), round(float(change), 2), round(float(np.sqrt(np.mean(np.square(off)))), 2))


def _lowest(own: np.ndarray, rest: np.ndarray, wanted_db: float, hz: np.ndarray) -> float:
    """Return the gain of what carries the bottom at which the sum's main band is as it is wanted, the nearest within what it may move."""
    low, high = np.searchsorted(hz, MAIN_HZ)
    a, b = own[:, low:high], rest[:, low:high]
    square, cross, still = np.sum(np.abs(a) ** 2), np.sum((a * b.conj()).real), np.sum(np.abs(b) ** 2)
    gains = db_to_gain(np.arange(-MOST_LOWEST_DB, MOST_LOWEST_DB + 0.05, 0.1))
    levels = power_to_db((gains**2 * square + 2.0 * gains * cross + still) / own.shape[0] + 1e-12)
    enough = np.flatnonzero(levels >= wanted_db)
    return float(gains[enough[0]] if enough.size else gains[np.argmax(levels)])


def _size(rate: int) -> int:
    return 1 << int(np.ceil(np.log2(2 * LENGTH_S * rate)))


def _spectra(strips: Mapping[str, np.ndarray], hits_s: Sequence[float], rate: int) -> dict[str, np.ndarray] | None:
    size, lead = int(LENGTH_S * rate), int(EARLY_S * rate)
    begins = window_starts(hits_s, EARLY_S, size, min(x.size for x in strips.values()), rate, MOST_HITS)
    if not begins:
        return None
    fade = np.ones(size)
    fade[-lead:] = np.linspace(1.0, 0.0, lead)
    all_hz = np.fft.rfftfreq(_size(rate), 1.0 / rate)
    heard = (all_hz >= LOWEST_HZ) & (all_hz <= HIGHEST_HZ)
    return {
        name: np.array([np.fft.rfft(x[b : b + size] * fade, _size(rate))[heard] for b in begins])
        for name, x in strips.items()
    }


def _heard_hz(rate: int) -> np.ndarray:
    all_hz = np.fft.rfftfreq(_size(rate), 1.0 / rate)
    return all_hz[(all_hz >= LOWEST_HZ) & (all_hz <= HIGHEST_HZ)]


def _power(spectra: np.ndarray) -> np.ndarray:
    return np.mean(np.abs(spectra) ** 2, axis=0)


def _level_db(power: np.ndarray, hz: np.ndarray, band: tuple[float, float]) -> float:
    low, high = np.searchsorted(hz, band)
    return float(power_to_db(np.sum(power[low : max(high, low + 1)]) + 1e-12))
