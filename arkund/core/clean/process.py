"""The gate: opens a mic for its own hits, with key filter and look-ahead."""

from collections.abc import Sequence

import numpy as np

from arkund.core.clean.settings import GateSettings
from arkund.core.dsp.bank import coefficient, filter_bank, kernels, lanes, settle_samples, settled
from arkund.core.dsp.filters import Biquad, high_pass, low_pass
from arkund.core.units import db_to_gain, ms_to_samples

KEY_RELEASE_MS = 5.0  # bridges the zero crossings of the key
LINGER_S = 0.5  # a level that stays between the two thresholds longer than this no longer counts as open
LEAST_KEY_HZ, MOST_KEY_HZ = 25.0, 17_500.0  # outside of these the key filter is a straight wire
OCTAVES_PER_DB = 1.0 / 6.020599913


def key_filter(settings: GateSettings, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return the sections that the gate's detector listens through."""
    out: tuple[Biquad, ...] = ()
    if settings.key_low_hz > LEAST_KEY_HZ:
        out += high_pass(settings.key_low_hz, 4, sample_rate_hz)
    if settings.key_high_hz < MOST_KEY_HZ:
        out += low_pass(min(settings.key_high_hz, 0.49 * sample_rate_hz), 4, sample_rate_hz)
    return out


def gate_gain(bank: np.ndarray, settings: Sequence[GateSettings], sample_rate_hz: int) -> np.ndarray:
    """Return the gate's gain at every sample, before it is moved earlier by the look-ahead.

    Parameters
    ----------
    bank : float32 [shape=(samples, width)]
    settings : one per channel in use

    Returns
    -------
    float32 [shape=(samples, width)], linear
    """
    rate = sample_rate_hz
    key = filter_bank(bank, [key_filter(s, rate) for s in settings])
    params = lanes(
        [
            [db_to_gain(s.threshold_db) for s in settings],
            [db_to_gain(s.threshold_db - s.hysteresis_db) for s in settings],
            [coefficient(s.attack_ms, rate) for s in settings],
            [coefficient(s.release_ms, rate) for s in settings],
            [max(ms_to_samples(s.hold_ms, rate), 1.0) for s in settings],
            [-s.range_db * OCTAVES_PER_DB for s in settings],
            [coefficient(KEY_RELEASE_MS, rate)] * len(settings),
            [LINGER_S * rate] * len(settings),
        ],
        width := bank.shape[1],
    )
    state = np.zeros(5 * width, np.float32)
    state[3 * width : 3 * width + len(settings)] = [-s.range_db * OCTAVES_PER_DB for s in settings]
    gain = np.empty(bank.shape, np.float32)
    kernels(bank).gate(key.reshape(-1), gain.reshape(-1), len(settings), params, state)
    return gain


def process(bank: np.ndarray, settings: Sequence[GateSettings], sample_rate_hz: int) -> np.ndarray:
    """Return the bank with each channel gated; channels whose gate is off pass unchanged."""
    if not any(s.on for s in settings):
        return bank
    gain = gate_gain(bank, settings, sample_rate_hz)
    out = bank.copy()
    for lane, s in enumerate(settings):
        if s.on:
            early = round(ms_to_samples(s.lookahead_ms, sample_rate_hz))
            out[: bank.shape[0] - early, lane] *= gain[early:, lane]
            out[bank.shape[0] - early :, lane] *= gain[-1, lane]
    return out


def reach(settings: GateSettings, sample_rate_hz: int) -> tuple[int, int]:
    """Return how many samples before and after a span the gate must see."""
    if not settings.on:
        return 0, 0
    before = settled([key_filter(settings, sample_rate_hz)]) + int((LINGER_S + 0.05) * sample_rate_hz)
    before += int(ms_to_samples(settings.hold_ms, sample_rate_hz))
    before += settle_samples(settings.release_ms, sample_rate_hz)
    return before, round(ms_to_samples(settings.lookahead_ms, sample_rate_hz))
