"""Section gains, and clipped tops drawn anew."""

from collections.abc import Callable, Sequence

import numpy as np
from scipy.linalg import solve_toeplitz

from arkund.core.files.audio import CLIP_LEVEL
from arkund.core.units import db_to_gain, ms_to_samples

Read = Callable[[int, int], np.ndarray]
CLIP_RUN = 2  # neighbouring samples at full scale that count as clipped
LONGEST_MS = 0.7  # of flat top that is drawn anew; longer ones say too little of what was there
CONTEXT_MS = 12.0
ORDER = 24
PASSES = 6


def stepped(audio: np.ndarray, first_db: float, steps: Sequence[tuple[int, int, float]], start: int) -> np.ndarray:
    """Return a span that begins at ``start`` with a gain that changes at steps: (sample from which it holds, samples before in which it comes, dB).

    The fade is even in dB, so that it is heard as one movement.
    """
    at = np.arange(start, start + audio.shape[0])
    gain_db, last = np.full(audio.shape[0], first_db), first_db
    for when, fade, step_db in steps:
        gain_db += (step_db - last) * np.clip((at - when) / max(fade, 1) + 1.0, 0.0, 1.0)
        last = step_db
    return audio * db_to_gain(gain_db).astype(np.float32)


def runs(samples: np.ndarray) -> list[tuple[int, int]]:
    """Return (first, one after the last) of each flat top."""
    at = np.flatnonzero(np.abs(samples) >= CLIP_LEVEL)
    if at.size < CLIP_RUN:
        return []
    parts = np.split(at, np.flatnonzero(np.diff(at) > 1) + 1)
    return [(int(part[0]), int(part[-1]) + 1) for part in parts if part.size >= CLIP_RUN]


def repaired(read: Read, sample_rate_hz: int) -> Read:
    """Return a reader in which flat tops of at most LONGEST_MS are drawn anew; longer ones stay as they are.

    Each top depends on the recording around it alone, so any span is part of the whole.
    """
    longest, context = (int(ms_to_samples(ms, sample_rate_hz)) for ms in (LONGEST_MS, CONTEXT_MS))

    def repaired_read(start: int, stop: int) -> np.ndarray:
        margin = context + longest
        wide = read(start - margin, stop + margin)
        out = wide.copy()
        for first, end in runs(wide):
            if end - first <= longest and end > margin and first < margin + stop - start:
                part = slice(max(first - context, 0), end + context)
                drawn = _drawn(wide[part].astype(np.float64))
                out[first:end] = drawn[first - part.start : end - part.start]
        return out[margin : margin + stop - start]

    return repaired_read


def _drawn(x: np.ndarray) -> np.ndarray:
    """Return a stretch of audio whose flat tops are what its own course predicts, at least at full scale.

    Autoregressive interpolation: the missing samples minimise the energy of the prediction error, the predictor is fitted anew after each
    pass (A. Janssen, R. Veldhuis and L. Vries, Adaptive interpolation of discrete-time signals that can be modeled as autoregressive
    processes, IEEE ASSP-34, 1986).
    """
    out = x.copy()
    missing = np.concatenate([np.arange(a, b) for a, b in runs(x)])
    sign = np.sign(x[missing])
    for _ in range(PASSES):
        full = np.correlate(out, out, "full")[out.size - 1 : out.size + ORDER]
        full[0] *= 1.0 + 1e-6
        predictor = np.concatenate([[1.0], -solve_toeplitz(full[:ORDER], full[1 : ORDER + 1])])
        across = np.correlate(predictor, predictor, "full")[ORDER:]
        table = np.concatenate([across, np.zeros(out.size)])
        matrix = table[np.abs(missing[:, None] - missing)]
        known = out.copy()
        known[missing] = 0.0
        kernel = np.concatenate([across[:0:-1], across])
        right = -np.convolve(known, kernel, "same")[missing]
        out[missing] = np.linalg.solve(matrix, right)
        short = out[missing] * sign < CLIP_LEVEL
        out[missing[short]] = sign[short] * CLIP_LEVEL
    return out
