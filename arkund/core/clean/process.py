"""The gate: opens a mic for its own hits, with key filter and look-ahead."""

from collections.abc import Sequence

import numpy as np

from arkund.core.clean.settings import GateSettings
from arkund.core.dsp.bank import BLOCK, Filters, coefficient, kernels, lanes
from arkund.core.dsp.filters import Biquad, high_pass, low_pass
from arkund.core.dsp.reach import NOTHING, Reach, of_cascades, of_follower
from arkund.core.units import DB_PER_OCTAVE, db_to_gain, ms_to_samples

KEY_RELEASE_MS = 5.0  # bridges the zero crossings of the key
LINGER_S = 0.5  # a level that stays between the two thresholds longer than this no longer counts as open
LEAST_KEY_HZ, MOST_KEY_HZ = (GateSettings.ranges()[name] for name in ("key_low_hz", "key_high_hz"))


def key_filter(settings: GateSettings, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return the sections that the gate's detector listens through."""
    out: tuple[Biquad, ...] = ()
    if settings.key_low_hz > LEAST_KEY_HZ.low:  # at the ends of its range the key hears everything
        out += high_pass(settings.key_low_hz, 4, sample_rate_hz)
    if settings.key_high_hz < MOST_KEY_HZ.high:
        out += low_pass(min(settings.key_high_hz, 0.49 * sample_rate_hz), 4, sample_rate_hz)
    return out


class Gate:
    """Gates of a bank's channels that keep their state from block to block; channels whose gate is off pass unchanged."""

    def __init__(self, settings: Sequence[GateSettings], sample_rate_hz: int, width: int) -> None:
        rate, self._count = sample_rate_hz, len(settings)
        self.on = any(s.on for s in settings)
        self.early = np.zeros(width, np.int64)  # samples by which each channel's gate opens before its key
        self.early[: self._count] = [round(ms_to_samples(s.lookahead_ms, rate)) if s.on else 0 for s in settings]
        self.key = Filters([key_filter(s, rate) if s.on else () for s in settings], width)
        self.params = lanes(
            [
                [db_to_gain(s.threshold_db) for s in settings],
                [db_to_gain(s.threshold_db - s.hysteresis_db) for s in settings],
                [coefficient(s.attack_ms, rate) for s in settings],
                [coefficient(s.release_ms, rate) for s in settings],
                [max(ms_to_samples(s.hold_ms, rate), 1.0) for s in settings],
                closed := [-s.range_db / DB_PER_OCTAVE if s.on else 0.0 for s in settings],
                [coefficient(KEY_RELEASE_MS, rate)] * len(settings),
                [LINGER_S * rate] * len(settings),
            ],
            width,
        )
        self.state = np.zeros(5 * width, np.float32)
        self.state[3 * width : 3 * width + len(settings)] = closed

    def gain(self, key: np.ndarray) -> np.ndarray:
        """Return the gain at every sample of a key signal, which is filtered in place [float32, shape=(samples, width)], linear."""
        self.key.run(key)
        gain = np.empty(key.shape, np.float32)
        kernels(key).gate(key.reshape(-1), gain.reshape(-1), self.params, self.state)
        return gain

    def prime(self, bank: np.ndarray) -> None:
        """Let the keys hear what lies within the look-ahead of the very first sample of a bank."""
        ahead = -(-int(self.early.max()) // BLOCK) * BLOCK  # as if silence had come before
        if self.on and ahead:
            first = np.zeros((ahead, bank.shape[1]), np.float32)
            for lane, early in enumerate(self.early):
                first[ahead - early :, lane] = bank[:early, lane]
            self.gain(first)


def gate_gain(bank: np.ndarray, settings: Sequence[GateSettings], sample_rate_hz: int) -> np.ndarray:
    """Return the gain of gates that are on, at every sample, before it is moved earlier by the look-ahead.

    bank : float32 [shape=(samples, width)]; settings : one per channel in use; returns float32 [shape=(samples, width)], linear.
    """
    return Gate([s.replace(on=True) for s in settings], sample_rate_hz, bank.shape[1]).gain(bank.copy())


def reach(settings: GateSettings, sample_rate_hz: int) -> Reach:
    """Return what the gate must hear beyond a span."""
    if not settings.on:
        return NOTHING
    hold = int((LINGER_S + 0.05) * sample_rate_hz) + int(ms_to_samples(settings.hold_ms, sample_rate_hz))
    ahead = round(ms_to_samples(settings.lookahead_ms, sample_rate_hz))
    key = of_cascades([key_filter(settings, sample_rate_hz)])
    return key + Reach(hold, after=ahead) + of_follower(settings.release_ms, sample_rate_hz)
