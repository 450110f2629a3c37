"""Put a hit of the shelf in the place of another, and add to a mic what goes through its tools.

Captured hits are spans of the recording itself, per mic, so that they stay in phase with the mic and run through the same
processing.
"""

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from arkund.core.units import db_to_gain, ms_to_samples

Read = Callable[[int, int], np.ndarray]
FADE_IN_MS, FADE_OUT_MS = 0.5, 30.0


def captured(read: Read, capture, sample_rate_hz: int) -> np.ndarray:
    """Return a captured hit of one mic, faded at both ends, float32 [shape=(before + length,)]."""
    out = read(capture.at - capture.before, capture.at + capture.length).copy()
    fade_in = min(max(int(ms_to_samples(FADE_IN_MS, sample_rate_hz)), 1), max(capture.before, 1))
    fade_out = min(int(ms_to_samples(FADE_OUT_MS, sample_rate_hz)), out.size // 2)
    out[:fade_in] *= np.linspace(0.0, 1.0, fade_in, endpoint=False, dtype=np.float32)
    out[out.size - fade_out :] *= np.linspace(1.0, 0.0, fade_out, dtype=np.float32)
    return out


def with_placements(
    read: Read, placements: Sequence, captures: Mapping, takes: Mapping[str, Read], sample_rate_hz: int
) -> Read:
    """Return a reader in which placed hits stand instead of what was played there."""
    mine = [p for p in placements if p.capture in captures]
    if not mine:
        return read

    def placed(start: int, stop: int) -> np.ndarray:
        out = read(start, stop).copy()
        for p in mine:
            capture = captures[p.capture]
            low, high = p.at - capture.before, p.at + p.length
            if high <= start or low >= stop:
                continue
            sound = captured(takes[p.capture], capture, sample_rate_hz)[: high - low] * np.float32(
                db_to_gain(p.gain_db)
            )
            sound = np.pad(sound, (0, high - low - sound.size))
            old = _window(low, high, start, stop, sample_rate_hz)
            a, b = max(low, start), min(high, stop)
            keep = 1.0 - old
            out[a - start : b - start] = out[a - start : b - start] * keep + sound[a - low : b - low] * old
        return out

    return placed


def with_added(read: Read, others: Sequence[tuple[Read, float]]) -> Read:
    """Return a reader to which others are added, each by a factor."""
    if not others:
        return read

    def added(start: int, stop: int) -> np.ndarray:
        out = read(start, stop).copy()
        for other, gain in others:
            out += np.float32(gain) * other(start, stop)
        return out

    return added


def _window(low: int, high: int, start: int, stop: int, rate: int) -> np.ndarray:
    """Return the share of the placed hit over the part of [low, high) inside [start, stop)."""
    at = np.arange(max(low, start), min(high, stop))
    fade_in, fade_out = ms_to_samples(FADE_IN_MS, rate), ms_to_samples(FADE_OUT_MS, rate)
    return np.clip(np.minimum((at - low) / fade_in, (high - at) / fade_out), 0.0, 1.0).astype(np.float32)
