"""When and in which polarity each mic hears a drum, against a reference mic, from averaged hits."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from math import ceil

import numpy as np
from scipy import fft

from arkund.core.dsp.spectrum import tukey
from arkund.core.kit.pieces import is_close, timing_mic

MOST_HITS = 48
WINDOW_BEFORE_MS, WINDOW_AFTER_MS = 4.0, 28.0
NEAR_MS, FAR_MS = 6.0, 30.0  # how much later or earlier a mic of the same drum, or of the kit, may hear it
WHITEN = 0.65  # 0 = plain correlation, 1 = phase only: sharp peaks although the mics sound different
LOW_HZ, HIGH_HZ = 60.0, 9000.0
UP = 4  # places between samples at which correlation is looked at, before a parabola finds its top
AROUND_MS = 0.6  # of the delay of all, in which each hit's own is looked for
TINY = 1e-20
LEAST_SURE = 0.16  # normalised height of the correlation peak
LEAST_AGAIN = 1.18  # the peak against the next one of the other sign
MOST_SPREAD_MS = 0.35
DRIFT_PARTS, DRIFT_HITS = 8, 160
MOST_DRIFT_MS = 8.0  # over the song
DRIFT_CLEAR, DRIFT_LEAST_MS = 4.0, 0.12  # the line must rise this far above the scatter


@dataclass(frozen=True, slots=True)
class Arrival:
    """How one mic hears a drum against its reference: later by delay_ms, with spread over the hits."""

    mic: str
    reference: str
    piece: str
    delay_ms: float
    polarity: int  # 1 or -1
    spread_ms: float
    sure: bool
    hits: int


def windows(reader, samples: Sequence[int], sample_rate_hz: int, extra_ms: float = 0.0) -> np.ndarray:
    """Return the mic around each hit, float32 [shape=(hits, samples)]."""
    before = int((WINDOW_BEFORE_MS + extra_ms) * sample_rate_hz / 1000)
    after = int((WINDOW_AFTER_MS + extra_ms) * sample_rate_hz / 1000)
    return np.stack([reader.read(at - before, at + after) for at in samples])


def arrival(reference, other, hit_samples: Sequence[int], most_ms: float, sample_rate_hz: int) -> tuple:
    """Return (delay_ms, polarity, spread_ms, sure) of a mic against its reference.

    The cross-spectra of all hits are averaged and partly whitened (C. Knapp and G. Carter, The Generalized Correlation Method for
    Estimation of Time Delay, IEEE ASSP-24, 1976), then the strongest correlation of either sign is refined between samples.
    """
    rate = sample_rate_hz
    near, far = (windows(r, hit_samples, rate, extra) for r, extra in ((reference, most_ms), (other, most_ms)))
    shape = tukey(near.shape[1], 0.15).astype(near.dtype)
    size = 1 << int(np.ceil(np.log2(2 * near.shape[1])))
    kept = slice(ceil(LOW_HZ * size / rate), int(HIGH_HZ * size / rate) + 1)
    A, B = (fft.rfft(each * shape, size)[:, kept] for each in (near, far))
    cross = B * np.conj(A)
    whole = np.sum(cross / (np.abs(cross).sum(axis=1, keepdims=True) + TINY), axis=0)
    delay, value, ratio = _peak(whole, kept, size, most_ms, rate)
    each = _peaks_near(delay, cross, kept, size, most_ms, rate)
    spread = float(np.median(np.abs(each - np.median(each))) * 1.4826)
    sure = abs(value) >= LEAST_SURE and ratio >= LEAST_AGAIN and spread <= MOST_SPREAD_MS
    return delay, (1 if value >= 0 else -1), spread, bool(sure)


def _whitened(cross: np.ndarray) -> np.ndarray:
    return cross / (np.abs(cross) + TINY) ** WHITEN


def _peak(cross: np.ndarray, kept: slice, size: int, most_ms: float, rate: int) -> tuple[float, float, float]:
    """Return delay in ms, signed normalised height, and height against the best of the other sign, of a cross-spectrum's kept bins."""
    weighted = np.zeros(size // 2 + 1, complex)
    weighted[kept] = _whitened(cross)
    line = fft.irfft(weighted, size * UP) * UP
    norm = np.sum(np.abs(weighted)) * 2 / size + TINY
    most = int(most_ms * rate / 1000 * UP)
    part = np.concatenate([line[-most:], line[: most + 1]]) / norm
    best = int(np.argmax(np.abs(part)))
    value = float(part[best])
    other = float(np.max(-np.sign(value) * part))
    shift = float(_between(np.abs(part[best - 1 : best + 2]))) if 0 < best < part.size - 1 else 0.0
    return (best - most + shift) / UP / rate * 1000, value, abs(value) / max(other, 1e-9)


def _peaks_near(near_ms: float, cross: np.ndarray, kept: slice, size: int, most_ms: float, rate: int) -> np.ndarray:
    """Return the delay in ms of each hit's own strongest correlation of either sign within AROUND_MS of a delay.

    cross : kept bins of each hit's cross-spectrum [shape=(hits, bins)]. So few lags are worked out one by one, as a product of matrices.
    """
    at, wide, most = (int(ms * rate / 1000 * UP) for ms in (near_ms, AROUND_MS, most_ms))
    bins = np.arange(kept.start, kept.stop)
    moved = _whitened(cross) * np.exp(2j * np.pi * bins * at / (size * UP))
    line = np.abs((moved.astype(np.complex64) @ _turns(kept.start, kept.stop, size * UP, wide + 1)).real)
    lags = at + np.arange(-wide - 1, wide + 2)
    allowed = np.abs(lags) <= most
    allowed[[0, -1]] = False
    best = np.argmax(np.where(allowed, line, -1.0), axis=1)
    three = np.take_along_axis(line, best[:, None] + np.arange(-1, 2), axis=1)
    shift = np.where(np.abs(lags[best]) < most, _between(three.T), 0.0)
    return (lags[best] + shift) / UP / rate * 1000


@cache
def _turns(first: int, last: int, size: int, wide: int) -> np.ndarray:
    """Return the turns of the bins first..last of a transform at the lags -wide..wide."""
    return np.exp(2j * np.pi / size * np.outer(np.arange(first, last), np.arange(-wide, wide + 1))).astype(np.complex64)


def _between(three: np.ndarray) -> np.ndarray:
    """Return where between its neighbours a parabola through three heights [shape=(3, ...)] has its top, in steps."""
    a, b, c = three.astype(float)
    bend = a - 2 * b + c
    return np.where(np.abs(bend) > 1e-12, 0.5 * (a - c) / np.where(bend == 0, 1.0, bend), 0.0)


def clean_hits(hits: dict, piece: str, apart_s: float = 0.06, most: int = MOST_HITS) -> list:
    """Return the strong hits of a piece with no other strong hit near, strongest first."""
    mine = hits.get(piece, [])
    if not mine:
        return []
    others = np.sort([h.time_s for p, hs in hits.items() if p != piece and p not in ("hihat", "ride") for h in hs])
    strong = sorted((h for h in mine if not h.ghost), key=lambda h: -h.level_db)[: most * 3]

    def alone(hit) -> bool:
        at = np.searchsorted(others, hit.time_s)
        near = others[max(at - 1, 0) : at + 1]
        return near.size == 0 or np.min(np.abs(near - hit.time_s)) > apart_s

    chosen = [h for h in strong if alone(h)][:most]
    return chosen if len(chosen) >= 3 else strong[:most]


def measure(plan, recordings, hits: dict) -> list[Arrival]:
    """Return the arrival of each mic against its reference.

    Mics of one drum are measured against that drum's own timing mic, mics of the kit against the snare's (or the kick's).
    """
    rate, out = recordings.sample_rate_hz, []
    for mic in plan.mics:
        close = is_close(mic.role)
        piece = mic.piece if close else _kit_reference(plan, hits)
        reference = timing_mic(plan.mics, piece) if piece else None
        reader = recordings.mic(plan.take, mic.id)
        if reference is None or reference.id == mic.id or reader is None:
            continue
        chosen = clean_hits(hits, piece)
        ref_reader = recordings.mic(plan.take, reference.id)
        if ref_reader is None or len(chosen) < 2:
            continue
        at = [round(h.time_s * rate) for h in chosen]
        if not windows(reader, at, rate).any():
            continue  # digital silence arrives at no time
        delay, polarity, spread, sure = arrival(ref_reader, reader, at, NEAR_MS if close else FAR_MS, rate)
        out.append(Arrival(mic.id, reference.id, piece, delay, polarity, spread, sure, len(chosen)))
    return out


def overheads_ms(plan, recordings, hits: dict) -> dict[str, float]:
    """Return how late the overheads hear each piece against its timing mic, in ms: the mean of those that are sure."""
    rate, out = recordings.sample_rate_hz, {}
    overheads = [m for m in plan.mics if m.role == "overhead" and recordings.mic(plan.take, m.id) is not None]
    for piece in hits:
        reference, chosen = timing_mic(plan.mics, piece), clean_hits(hits, piece)
        reader = recordings.mic(plan.take, reference.id) if reference else None
        if reader is None or len(chosen) < 3:
            continue
        at = [round(h.time_s * rate) for h in chosen]
        found = [arrival(reader, recordings.mic(plan.take, m.id), at, FAR_MS, rate) for m in overheads]
        delays = [delay for delay, _, _, sure in found if sure]
        if delays:
            out[piece] = float(np.mean(delays))
    return out


@dataclass(frozen=True, slots=True)
class Drift:
    """How a mic's delay against its reference grows over the song: positive ppm = it falls behind."""

    mic: str
    ppm: float
    off_ms: float  # median distance of the places from the line
    points: int
    sure: bool


def drifts(plan, recordings, hits: dict, arrivals: Sequence[Arrival]) -> list[Drift]:
    """Return the drift of each mic whose arrival is measured: its delay in DRIFT_PARTS parts of the song, and a line through them.

    Two recorders' clocks differ by some parts per million: 10 ppm are 0.6 ms a minute. The slope is the median of the slopes of all pairs
    of parts (P. Sen, Estimates of the regression coefficient based on Kendall's tau, JASA 63, 1968).
    """
    rate, out = recordings.sample_rate_hz, []
    for a in arrivals:
        near, far = (recordings.mic(plan.take, name) for name in (a.reference, a.mic))
        mine = sorted(clean_hits(hits, a.piece, most=DRIFT_HITS), key=lambda h: h.time_s)
        parts = [part for part in np.array_split(np.array(mine, object), DRIFT_PARTS) if len(part) >= 3]
        if len(parts) < DRIFT_PARTS // 2 or near is None or far is None:
            continue
        most = abs(a.delay_ms) + MOST_DRIFT_MS
        found = []
        for part in parts:
            delay, _, _, _ = arrival(near, far, [round(h.time_s * rate) for h in part], most, rate)
            found.append((float(np.mean([h.time_s for h in part])), delay))
        at, delay = np.array(found).T
        i, j = np.triu_indices(at.size, 1)
        slope = float(np.median((delay[j] - delay[i]) / (at[j] - at[i])))
        off = float(np.median(np.abs(delay - slope * at - np.median(delay - slope * at))))
        moved = abs(slope) * (at[-1] - at[0])
        out.append(
            Drift(
                a.mic, round(slope * 1000, 2), round(off, 3), at.size, bool(moved > DRIFT_CLEAR * off + DRIFT_LEAST_MS)
            )
        )
    return out


def _kit_reference(plan, hits: dict) -> str | None:
    return next((p for p in ("snare", "kick") if len(hits.get(p, [])) >= 3), None)


def averaged(reader, hits: list, sample_rate_hz: int, before_ms: float, after_ms: float) -> np.ndarray:
    """Return the average of a mic over hits, float32 [shape=(samples,)]."""
    rate = sample_rate_hz
    before, after = int(before_ms * rate / 1000), int(after_ms * rate / 1000)
    at = [round(h.time_s * rate) for h in hits]
    return np.mean([reader.read(s - before, s + after) for s in at], axis=0) if at else np.zeros(before + after)
