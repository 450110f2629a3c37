"""A mic's spectrum during its own hits, between hits, and during others' hits; fundamental, ring and box."""

import itertools
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.spectrum import axis_hz, spectrum_db, tukey
from arkund.core.kit.pieces import is_shell
from arkund.core.punch.measure import heard_clear
from arkund.core.tone import peaks
from arkund.core.tone.peaks import Ring

OWN_S = 0.12  # of each own hit
ALONE_S = 0.05
MOST_WINDOWS = 60
MOST_STROKES = 24  # by which peaks are found
LONE_STROKES, LEAST_LONE = 24, 3  # of another drum
THIRD = 4  # points of the axis in a third of an octave, nearly
LEAST_BLEED_DB, HEARD_DB = -20.0, 30.0  # against own hits there, and below the loudest of them, that is told


@dataclass(frozen=True, slots=True)
class Box:
    """Where a drum is boxy, and by how much it stands over a straight fall there, in dB."""

    frequency_hz: float
    above_db: float


@dataclass(frozen=True, slots=True)
class Bleed:
    """Another drum in a mic: where it stands highest against the own hits, and by how much, in dB."""

    piece: str
    frequency_hz: float
    against_own_db: float


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
    box: Box | None = None
    bleed: tuple[Bleed, ...] = ()

    @classmethod
    def from_plain(cls, data: dict) -> "ToneMeasure":
        """Return it from plain data, as ``dataclasses.asdict`` gives them."""
        spectra = {key: tuple(value) for key, value in data.items() if key.endswith("_db") or key == "axis_hz"}
        ring, box = (kind(**data[key]) if data[key] else None for kind, key in ((Ring, "ring"), (Box, "box")))
        bleed = tuple(Bleed(**each) for each in data["bleed"])
        return cls(data["mic"], **spectra, fundamental_hz=data["fundamental_hz"], ring=ring, box=box, bleed=bleed)


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
    starts = starts_of(hits, mic.piece, rate)
    fundamental = peaks.fundamental_hz(read, starts, mic.piece, rate)
    ring = peaks.ring(read, starts, fundamental, rate) if is_shell(mic.piece) else None
    box = peaks.box_hz(read, starts, mic.piece, rate, ring.frequency_hz if ring else None)
    return ToneMeasure(
        mic.id,
        tuple(np.round(axis_hz(rate), 2).tolist()),
        tuple(np.round(own_db, 2).tolist()),
        tuple(np.round(spectrum_db(between, rate), 2).tolist()),
        tuple(np.round(spectrum_db(other_windows, rate), 2).tolist()),
        fundamental,
        ring,
        None if box is None else Box(*box),
        _bleed(read, hits, mic.piece, own_db, rate) if own else (),
    )


def _bleed(read, hits: dict, own_piece: str, own_db: np.ndarray, rate: int) -> tuple[Bleed, ...]:
    """Return the other drums that are heard in a mic, the loudest against the own hits first, each by strokes that no other drum is near."""
    axis, size, out = axis_hz(rate), int(OWN_S * rate), []
    tilt = 3.0 * np.log2(axis)  # every octave counts the same
    loudest = float(np.max(own_db + tilt))
    for piece, mine in hits.items():
        others = np.sort([h.time_s for name, hs in hits.items() if name != piece for h in hs])
        lone = [h for h in _strongest(mine) if _far(h.time_s, others, OWN_S)][:LONE_STROKES]
        if piece == own_piece or len(lone) < LEAST_LONE:
            continue
        theirs_db = spectrum_db([_faded(read(_at(h, rate), _at(h, rate) + size)) for h in lone], rate)
        over = np.convolve(theirs_db - own_db, np.full(THIRD, 1.0 / THIRD), "same")
        over[theirs_db + tilt < loudest - HEARD_DB] = -np.inf
        best = int(np.argmax(over[: -THIRD // 2]))
        if over[best] >= LEAST_BLEED_DB:
            out.append(Bleed(piece, round(float(axis[best]), 1), round(float(over[best]), 1)))
    return tuple(sorted(out, key=lambda each: -each.against_own_db))


def starts_of(hits: dict, piece: str, sample_rate_hz: int) -> list[int]:
    """Return where the strongest strokes of a drum begin after which neither it nor another one is struck for a while, in samples."""
    mine = hits.get(piece, [])
    clear = {h.time_s: h for h in heard_clear([h for h in mine if not h.ghost], hits, piece)}
    times = sorted(clear, key=lambda t: -clear[t].level_db)
    return [_at(clear[t], sample_rate_hz) for t in peaks.alone(times, [h.time_s for h in mine])[:MOST_STROKES]]


def _strongest(hits) -> list:
    return sorted((h for h in hits if not h.ghost), key=lambda h: -h.level_db)[:MOST_WINDOWS]


def _at(hit, rate: int) -> int:
    return int((hit.time_s - 0.002) * rate)


def _faded(part: np.ndarray) -> np.ndarray:
    return part * tukey(part.size, 0.1)


def _far(time_s: float, times: np.ndarray, by_s: float = ALONE_S) -> bool:
    return times.size == 0 or float(np.min(np.abs(times - time_s))) > by_s


def _gaps(times: np.ndarray, length_s: float) -> list[float]:
    edges = np.concatenate([times, [length_s]])
    gaps = [(b - a, a) for a, b in itertools.pairwise(edges) if b - a > OWN_S + 0.06]
    return [b_start + gap - OWN_S - 0.01 for gap, b_start in sorted(gaps, reverse=True)[:MOST_WINDOWS]]
