"""The average hit's envelope, and what a compressor did by the next hit."""

from dataclasses import dataclass

import numpy as np

from arkund.core.dsp import _kernels
from arkund.core.dsp.bank import coefficient
from arkund.core.units import gain_to_db

BEFORE_MS, AFTER_MS = 10.0, 250.0
STEP_MS = 1.0
FOLLOW_MS = (0.2, 6.0)
MOST_HITS = 60


@dataclass(frozen=True, slots=True)
class Envelope:
    """Average level in dBFS by ms from the hit."""

    time_ms: tuple[float, ...]
    level_db: tuple[float, ...]


def average_envelope(read, hits: list, sample_rate_hz: int) -> Envelope:
    """Return the average envelope of hits; read(start, stop) gives a mic, raw or processed."""
    rate = sample_rate_hz
    before, after, step = (int(ms * rate / 1000) for ms in (BEFORE_MS, AFTER_MS, STEP_MS))
    strong = sorted((h for h in hits if not h.ghost), key=lambda h: -h.level_db)[:MOST_HITS]
    count = (before + after) // step
    total = np.zeros(count)
    lead = before * 3
    for h in strong:
        at = round(h.time_s * rate)
        part = np.abs(read(at - lead, at + after))
        out = np.empty(part.size, np.float32)
        _kernels.follow(
            np.ascontiguousarray(part, np.float32),
            out,
            np.float32(coefficient(FOLLOW_MS[0], rate)),
            np.float32(coefficient(FOLLOW_MS[1], rate)),
        )
        kept = out[lead - before :][: count * step].reshape(count, step).max(axis=1)
        total += kept.astype(float) ** 2
    level = gain_to_db(np.sqrt(total / max(len(strong), 1)))
    times = (np.arange(count) * step - before) / rate * 1000
    return Envelope(tuple(np.round(times, 2).tolist()), tuple(np.round(level, 2).tolist()))


def attack_and_body_db(envelope: Envelope) -> tuple[float, float]:
    """Return the peak in the first 12 ms and the mean level from 30 to 120 ms."""
    t, level = np.array(envelope.time_ms), np.array(envelope.level_db)
    return float(level[(t >= -2) & (t < 12)].max()), float(level[(t >= 30) & (t < 120)].mean())
