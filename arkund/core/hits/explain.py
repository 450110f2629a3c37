"""Whose sound is it: every stroke's bleed is predicted into all mics, and a hit must stand above that prediction.

A *print* of a piece is the energy that one of its strokes leaves in every mic and band over time, against its level in its own
mic. Prints are learnt from this very recording: from strokes that arrived in their own mic before any other (sound takes
1 ms for 34 cm, so bleed is always late), then from all hits that were found to stand alone.

References
    D. Lee and S. Seung, Algorithms for Non-negative Matrix Factorization (2000): the multiplicative update used here
    with fixed prints, for strokes that overlap.
"""

from dataclasses import dataclass

import numpy as np

LEAD = 12  # frames before the first stroke of a cluster
BEFORE, AFTER = 2, 32  # frames of a print before and after its onset
STRIDE = 4  # frames that are added up when strokes are explained together
UPDATES = 25
SHIFTS = range(-3, 11)  # frames by which a candidate may be moved to fit its print
SHORT = 12  # frames after the onset in which a hit must stand out
LEARN_MOST = 40
LEARN_LEAST = 1


@dataclass(slots=True)
class Stroke:
    """A candidate while it is being explained."""

    piece: int
    frame: int
    rise_db: float = 0.0
    level: float = 0.0  # energy in its own mic
    excess_db: float = 0.0


def window(energy: np.ndarray, frame: int, before: int = BEFORE, after: int = AFTER) -> np.ndarray:
    """Return energy [shape=(before + after, mics, bands)] around a frame, silent outside the recording."""
    out = np.zeros((before + after, *energy.shape[1:]), np.float32)
    start, stop = max(frame - before, 0), min(frame + after, energy.shape[0])
    out[start - frame + before : stop - frame + before] = energy[start:stop]
    return out


def rest_before(energy: np.ndarray, frame: int) -> np.ndarray:
    """Return what was sounding just before a frame [shape=(mics, bands)]."""
    return np.max(energy[max(frame - 12, 0) : max(frame - 2, 1)], axis=0)


def own_level(energy: np.ndarray, frame: int, mic: int) -> float:
    """Return the energy that a stroke adds in its own mic within SHORT frames."""
    frame = min(max(frame, 0), energy.shape[0] - 1)
    part = energy[frame : frame + SHORT, mic].mean(axis=0)
    return float(np.sum(np.maximum(part - rest_before(energy, frame)[mic], 0.0))) + 1e-12


def learn(energy: np.ndarray, frames: list[int], mic: int, quantiles: list[float]) -> np.ndarray | None:
    """Return the print of strokes at these frames, or None where there are too few.

    quantiles, one per mic, says which of the measured values is taken as the bleed: what else sounds at the same time only ever
    adds, so a mic whose piece often coincides (a hat) takes a low one, and one whose piece seldom does (a tom) a high one.
    """
    if len(frames) < LEARN_LEAST:
        return None
    levels = [own_level(energy, frame, mic) for frame in frames]
    chosen = np.argsort(levels)[::-1][:LEARN_MOST]
    prints = []
    for index in chosen:
        rest = rest_before(energy, frames[index])
        added = np.maximum(window(energy, frames[index]) - rest, 0.0)
        prints.append(added / levels[index])
    out = np.stack(
        [np.quantile([each[:, m] for each in prints], q, axis=0) for m, q in enumerate(quantiles)], axis=1
    ).astype(np.float32)
    out[:, mic] = np.median([each[:, mic] for each in prints], axis=0)
    return out


def explain(
    energy: np.ndarray,
    strokes: list[Stroke],
    prints: list[np.ndarray | None],
    own: list[list[int]],
    least_db: list[float],
) -> list[Stroke]:
    """Return the strokes of one cluster that are needed to explain what was measured.

    energy [shape=(frames, mics, bands)]; own lists the mics of each piece. Strokes are taken one by one, first the one that
    explains most in all mics together. The next is taken only while its own mics hold at least least_db (by piece) more than
    the strokes taken so far, and the sound before, account for.
    """
    first, last = min(s.frame for s in strokes), max(s.frame for s in strokes)
    after = last - first + AFTER + SHIFTS[-1]
    seen = window(energy, first, LEAD, after + -(LEAD + after) % STRIDE)
    rest = seen[: LEAD - 2].max(axis=0)
    weight = 1.0 / (seen.max(axis=0) + 3.0 * rest + 1e-10)
    seen = seen * weight
    V = _pooled(seen)
    rest = rest * weight
    taken: list[int] = []
    patterns: dict[int, np.ndarray] = {}
    for k, s in enumerate(strokes):
        patterns[k] = _pattern(seen.shape, prints[s.piece], s.frame - first + LEAD, weight)
    base = np.broadcast_to(rest, V.shape)
    levels, model = np.zeros(0), base
    while len(taken) < len(strokes):
        left = [k for k in range(len(strokes)) if k not in taken]
        for k in left:
            strokes[k].excess_db = _excess(V, model, strokes[k].frame - first + LEAD, own[strokes[k].piece])
        open_ = [k for k in left if strokes[k].excess_db >= least_db[strokes[k].piece]]
        if not open_:
            break
        residual = np.maximum(V - model, 0.0)
        best = max(open_, key=lambda k: _explained(residual, patterns[k]))
        s = strokes[best]
        mics = own[s.piece]
        fine = np.maximum(seen[:, mics] - np.repeat(model, STRIDE, axis=0)[:, mics], 0.0)
        print_own = prints[s.piece][:, mics] * weight[mics]
        s.frame += _best_shift(fine, print_own, s.frame - first + LEAD)
        patterns[best] = _pattern(seen.shape, prints[s.piece], s.frame - first + LEAD, weight)
        taken.append(best)
        levels = _fit(V, base, [patterns[k] for k in taken], np.append(levels, _single(residual, patterns[best])))
        model = base + sum(level * patterns[k] for level, k in zip(levels, taken, strict=True))
    return [strokes[k] for k in _needed(V, base, patterns, strokes, taken, levels, first, own, least_db)]


def _needed(V, base, patterns, strokes, taken, levels, first, own, least_db) -> list[int]:
    """Drop the strokes that hardly rise above the others, the weakest first; what is left is fitted anew each time."""
    kept, h = list(taken), dict(zip(taken, levels, strict=True))
    while kept:
        for k in kept:
            others = [each for each in kept if each != k]
            model = base
            if others:
                model = base + sum(h[each] * patterns[each] for each in others)
            s = strokes[k]
            s.level = float(h[k])
            s.excess_db = _excess(V, model, s.frame - first + LEAD, own[s.piece])
        weakest = min(kept, key=lambda k: strokes[k].excess_db - least_db[strokes[k].piece])
        if strokes[weakest].excess_db >= least_db[strokes[weakest].piece]:
            return kept
        kept.remove(weakest)
        if kept:
            fitted = _fit(V, base, [patterns[k] for k in kept], np.array([h[k] for k in kept]))
            h = dict(zip(kept, fitted, strict=True))
    return kept


def _best_shift(residual: np.ndarray, pattern: np.ndarray, onset: int) -> int:
    """Return by how many frames a print fits better in its own mics when it is moved."""
    best, best_score = 0, -np.inf
    for shift in SHIFTS:
        at = onset + shift - BEFORE
        if at < 0:
            continue
        part = residual[at : at + BEFORE + SHORT]
        told = pattern[: part.shape[0]]
        norm = np.sqrt(np.sum(told * told, axis=(0, 2)) * np.sum(part * part, axis=(0, 2)) + 1e-12)
        score = float(np.sum(np.sum(part * told, axis=(0, 2)) / norm)) * np.sqrt(np.sum(part))
        if score > best_score:
            best, best_score = shift, score
    return best


def _pattern(shape, pattern: np.ndarray, onset: int, weight: np.ndarray) -> np.ndarray:
    out = np.zeros(shape, np.float32)
    at = onset - BEFORE
    stop = min(at + pattern.shape[0], shape[0])
    out[at:stop] = pattern[: stop - at]
    return _pooled(out * weight)


def _pooled(a: np.ndarray) -> np.ndarray:
    """Average over STRIDE frames, so that a stroke may lie a frame beside its candidate."""
    length = a.shape[0] // STRIDE * STRIDE
    return a[:length].reshape(length // STRIDE, STRIDE, *a.shape[1:]).mean(axis=1)


def _single(residual: np.ndarray, pattern: np.ndarray) -> float:
    return float(np.sum(residual * pattern) / (np.sum(pattern * pattern) + 1e-12)) + 1e-9


def _explained(residual: np.ndarray, pattern: np.ndarray) -> float:
    told = _single(residual, pattern) * pattern
    return float(np.sum(np.minimum(told, residual)) - np.sum(np.maximum(told - residual, 0.0)))


def _fit(V: np.ndarray, base: np.ndarray, patterns: list[np.ndarray], start: np.ndarray) -> np.ndarray:
    h = start.copy()
    W = np.stack([pattern.ravel() for pattern in patterns], axis=1) + 1e-9
    v, rest = V.ravel() + 1e-6, base.ravel() + 1e-6
    scale = W.sum(axis=0)
    for _ in range(UPDATES):
        h *= (W.T @ (v / (W @ h + rest))) / scale
    return h


def _excess(V: np.ndarray, model: np.ndarray, onset: int, mics: list[int]) -> float:
    """Return how far the piece's own mics stand above a model, in dB, in the half of the bands where they do most."""
    place = onset // STRIDE
    stop = place + max(SHORT // STRIDE, 1)
    had = V[place:stop, mics].mean(axis=0) + 1e-4
    told = model[place:stop, mics].mean(axis=0) + 1e-4
    ratio = np.clip(10.0 * np.log10(had / told), -6.0, 20.0)
    ratio = np.sort(ratio.ravel())
    return float(np.mean(ratio[-max(ratio.size // 2, 3) :]))
