"""When and in which polarity each mic hears a drum, against a reference mic, from averaged hits."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import signal

from arkund.core.kit.pieces import is_close, timing_mic

MOST_HITS = 48
WINDOW_BEFORE_MS, WINDOW_AFTER_MS = 4.0, 28.0
NEAR_MS, FAR_MS = 6.0, 30.0  # how much later or earlier a mic of the same drum, or of the kit, may hear it
WHITEN = 0.65  # 0 = plain correlation, 1 = phase only: sharp peaks although the mics sound different
LOW_HZ, HIGH_HZ = 60.0, 9000.0
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
    shape = signal.windows.tukey(near.shape[1], 0.15)
    size = 1 << int(np.ceil(np.log2(2 * near.shape[1])))
    A, B = np.fft.rfft(near * shape, size), np.fft.rfft(far * shape, size)
    frequencies = np.fft.rfftfreq(size, 1 / rate)
    keep = (frequencies >= LOW_HZ) & (frequencies <= HIGH_HZ)
    cross = B * np.conj(A)
    whole = np.sum(cross / (np.abs(cross).sum(axis=1, keepdims=True) + 1e-20), axis=0)
    delay, value, ratio = _peak(whole, keep, size, most_ms, rate)
    each = [_peak(c, keep, size, most_ms, rate, near_ms=delay)[0] for c in cross]
    spread = float(np.median(np.abs(np.array(each) - np.median(each))) * 1.4826)
    sure = abs(value) >= LEAST_SURE and ratio >= LEAST_AGAIN and spread <= MOST_SPREAD_MS
    return delay, (1 if value >= 0 else -1), spread, bool(sure)


def _peak(cross, keep, size: int, most_ms: float, rate: int, near_ms: float | None = None) -> tuple:
    """Return delay in ms, signed normalised height, and height against the best of the other sign."""
    weight = np.where(keep, 1.0 / (np.abs(cross) + 1e-20) ** WHITEN, 0.0)
    weighted = cross * weight
    up = 4
    line = np.fft.irfft(weighted, size * up) * up
    norm = np.sum(np.abs(weighted)) * 2 / size + 1e-20
    most = int(most_ms * rate / 1000 * up)
    part = np.concatenate([line[-most:], line[: most + 1]]) / norm
    if near_ms is not None:
        at = int(near_ms * rate / 1000 * up) + most
        wide = int(0.6 * rate / 1000 * up)
        lo = max(at - wide, 0)
        best = lo + int(np.argmax(np.abs(part[lo : at + wide + 1])))
    else:
        best = int(np.argmax(np.abs(part)))
    value = float(part[best])
    other = float(np.max(-np.sign(value) * part))
    shift = 0.0
    if 0 < best < part.size - 1:
        a, b, c = np.abs(part[best - 1 : best + 2])
        shift = 0.5 * (a - c) / (a - 2 * b + c) if abs(a - 2 * b + c) > 1e-12 else 0.0
    return (best - most + shift) / up / rate * 1000, value, abs(value) / max(other, 1e-9)


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
