"""Strokes as hits, for tests of timing: by hand, and as the generated drummer plays them; and what a splice adds."""

import numpy as np

from arkund.core.demo.score import GHOST_BELOW_DB, Stroke
from arkund.core.hits.resolve import Hit


def hit(piece: str, time_s: float, ghost: bool = False, level_db: float = -8.0) -> Hit:
    return Hit(piece, time_s, level_db, 110, ghost)


def hits_of(strokes: list[Stroke]) -> dict[str, list[Hit]]:
    out: dict[str, list[Hit]] = {}
    for s in strokes:
        ghost = s.piece == "snare" and s.level_db < GHOST_BELOW_DB
        out.setdefault(s.piece, []).append(Hit(s.piece, s.time_s, s.level_db - 8.0, 100, ghost))
    return out


def rise_db(x: np.ndarray, at: int, rate: int = 48_000) -> float:
    """Return the energy of the 5 ms around a sample against the 30 ms around those, in dB."""
    half, around = round(0.0025 * rate), round(0.015 * rate)
    inside = x[at - half : at + half]
    outside = np.concatenate([x[at - around : at - half], x[at + half : at + around]])
    return float(10 * np.log10((np.mean(inside**2) + 1e-14) / (np.mean(outside**2) + 1e-14)))
