"""A mic's recording as the Plan wants it before any processing: edited in time, replaced, layered, trimmed, lined up."""

from collections.abc import Callable, Sequence
from typing import Protocol

import numpy as np

from arkund.core.dsp import _kernels
from arkund.core.dsp.delay import read_delayed
from arkund.core.hits.bands import Reader
from arkund.core.kit.pieces import is_close
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.replace.process import with_layers, with_placements
from arkund.core.timing.process import read_edited
from arkund.core.units import db_to_gain, ms_to_samples

Read = Callable[[int, int], np.ndarray]


class Recordings(Protocol):
    """The takes of a session: immutable audio by take and mic."""

    @property
    def sample_rate_hz(self) -> int: ...

    def mic(self, take: str, mic_id: str) -> Reader | None: ...

    def length(self, take: str) -> int: ...

    def content(self, take: str, mic_id: str) -> str: ...  # a hash of the samples, '' where the take lacks the mic


def silence(start: int, stop: int) -> np.ndarray:
    """Read a mic that this take does not have."""
    return np.zeros(max(stop - start, 0), np.float32)


def raw(plan: Plan, recordings: Recordings, mic_id: str, take: str | None = None) -> Read:
    """Return the reader of a mic's untouched recording."""
    found = recordings.mic(take or plan.take, mic_id)
    return found.read if found is not None else silence


def source(plan: Plan, recordings: Recordings, mic: MicPlan, start: int, stop: int) -> np.ndarray:
    """Return a span of a mic's edited, trimmed and lined-up recording, float32 [shape=(samples,)].

    Order: replaced and layered hits (in the time of the recording), cuts (all mics at the same instants), then trim,
    polarity and delay of this mic.
    """
    rate = recordings.sample_rate_hz
    read = raw(plan, recordings, mic.id)
    if is_close(mic.role):
        captures = {c.id: c for c in plan.captures if c.piece == mic.piece}
        if captures:
            takes = {c.id: raw(plan, recordings, mic.id, c.take) for c in captures.values()}
            read = with_placements(read, plan.placements, captures, takes, rate)
            read = with_layers(read, plan.layers, captures, takes, rate)
    if plan.cuts:
        edited, fade = read, plan.crossfade_ms

        def read(a: int, b: int) -> np.ndarray:
            return read_edited(edited, plan.cuts, fade, rate, a, b)

    delay = ms_to_samples(mic.line_up.delay_ms, rate)
    gain = np.float32(db_to_gain(mic.trim_db) * (-1.0 if mic.line_up.inverted else 1.0))
    out = read_delayed(read, start, stop, delay)
    if gain != 1.0:
        out *= gain
    return out


def source_bank(
    plan: Plan, recordings: Recordings, mics: Sequence[MicPlan], start: int, stop: int, width: int
) -> np.ndarray:
    """Return a span of several mics' sources side by side, float32 [shape=(samples, width)]."""
    rows = np.stack([source(plan, recordings, mic, start, stop) for mic in mics])
    bank = np.zeros((stop - start, width), np.float32)
    _kernels.interleave(rows, bank.reshape(-1), width)
    return bank


def source_settings(plan: Plan, recordings: Recordings, mic: MicPlan) -> dict:
    """Return what the source of a mic depends on, as plain data for its content hash."""
    captures = [c.to_json() for c in plan.captures if c.piece == mic.piece] if is_close(mic.role) else []
    ids, takes = {c["id"] for c in captures}, {plan.take, *(c["take"] for c in captures)}
    return {
        "take": plan.take,
        "recordings": {take: recordings.content(take, mic.id) for take in sorted(takes)},
        "trim_db": mic.trim_db,
        "line_up": mic.line_up.to_json(),
        "cuts": [c.to_json() for c in plan.cuts],
        "crossfade_ms": plan.crossfade_ms,
        "captures": captures,
        "placements": [p.to_json() for p in plan.placements if p.capture in ids],
        "layers": [layer.to_json() for layer in plan.layers if layer.capture in ids],
    }
