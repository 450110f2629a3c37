"""Several channels in lock-step: the checked door to the compiled kernels.

A *bank* is audio as float32 [shape=(samples, LANES)]: up to LANES channels side by side, unused lanes silent.
"""

from collections.abc import Iterable, Sequence

import numpy as np

from arkund.core.dsp import _kernels
from arkund.core.dsp.filters import Biquad
from arkund.core.errors import AudioError

LANES = _kernels.LANES
SETTLED_TIME_CONSTANTS = 11.0  # e^-11: a 20 dB difference has shrunk below 0.0004 dB


def bank_of(channels: Sequence[np.ndarray]) -> np.ndarray:
    """Return channels [each shape=(samples,)] side by side as a bank."""
    if not 1 <= len(channels) <= LANES:
        raise AudioError(f"A bank holds 1 to {LANES} channels, got {len(channels)}.")
    out = np.zeros((len(channels[0]), LANES), np.float32)
    for lane, channel in enumerate(channels):
        out[:, lane] = channel
    return out


def coefficient(time_ms: float, sample_rate_hz: int) -> float:
    """Return exp(-1 / (time * rate)): a one-pole follower covers 63 % of a step in time_ms."""
    return float(np.exp(-1000.0 / (max(time_ms, 1e-3) * sample_rate_hz)))


def settle_samples(time_ms: float, sample_rate_hz: int) -> int:
    """Return how many samples a one-pole follower of this time needs to forget where it started."""
    return int(np.ceil(SETTLED_TIME_CONSTANTS * time_ms * sample_rate_hz / 1000.0))


def lanes(rows: Iterable[Sequence[float]]) -> np.ndarray:
    """Return parameter rows, one value per channel, padded to LANES and flat as the kernels want them."""
    out = []
    for row in rows:
        padded = np.zeros(LANES, np.float32)
        padded[: len(row)] = row
        out.append(padded)
    return np.concatenate(out)


def filter_bank(bank: np.ndarray, cascades: Sequence[Sequence[Biquad]]) -> np.ndarray:
    """Filter each channel with its own cascade of sections.

    Parameters
    ----------
    bank : float32 [shape=(samples, LANES)]
    cascades : one sequence of sections per channel in use; shorter ones are padded with a straight wire

    Returns
    -------
    float32 [shape=(samples, LANES)], a new array
    """
    depth = max((len(cascade) for cascade in cascades), default=0)
    out = np.ascontiguousarray(bank, np.float32).copy()
    if depth == 0:
        return out
    wire = (0.5, 0.25, 0.125, 1.0, 0.0, 0.0)
    params = np.zeros((depth, 6, LANES), np.float32)
    params[:] = np.array(wire, np.float32)[None, :, None]
    for lane, cascade in enumerate(cascades):
        for place, section in enumerate(cascade):
            params[place, :, lane] = section.state_variable()
    state = np.zeros(depth * 2 * LANES, np.float32)
    _kernels.svf_cascade(out.reshape(-1), len(cascades), depth, params.reshape(-1), state)
    return out


def settled(cascades: Sequence[Sequence[Biquad]]) -> int:
    """Return how many samples the slowest cascade needs to settle."""
    return max((sum(section.settle_samples() for section in cascade) for cascade in cascades), default=0)
