"""Transient shaper and compressor over a bank of channels."""

from collections.abc import Sequence
from math import ceil

import numpy as np

from arkund.core.dsp.bank import PAIR, Filters, coefficient, kernels, lanes
from arkund.core.dsp.filters import Biquad, high_pass
from arkund.core.dsp.reach import NOTHING, Reach, of_cascades, of_follower
from arkund.core.punch.settings import CompressorSettings, ShaperSettings
from arkund.core.units import DB_PER_OCTAVE

BRIGHT_HZ = 2500.0  # an attack is told by what lies above: drums ring below it
ENVELOPE_MS = (
    24.0  # release: half waves of 40 Hz do not look like strokes, a soft stroke an eighth after a loud one does
)
PAST_MS = 3.0  # how slowly the past follows a rise
ONSET_RATIO, FULL_RATIO = 1.7, 2.3  # of the envelope against its past: an onset begins, and is one altogether
ATTACK_MS, FALL_MS = 10.0, 18.0  # the attack's gain is held, and falls to that of the sustain
RISE_MS = 0.1  # so that it does not click
SHAPER_FLOOR = 1e-5  # -100 dBFS: keeps silence from being shaped
LEAST_DETECTOR = CompressorSettings.ranges()["detector_low_hz"]
NOTHING_WANTED = np.zeros(0, np.float32)


class Shaper:
    """Transient shapers of a bank's channels that keep their state from block to block."""

    def __init__(self, settings: Sequence[ShaperSettings], sample_rate_hz: int, width: int) -> None:
        rate, self._count = sample_rate_hz, len(settings)
        self.on = any(s.on for s in settings)
        values = [
            coefficient(1000.0 / (2.0 * np.pi * BRIGHT_HZ), rate),
            coefficient(ENVELOPE_MS, rate),
            coefficient(PAST_MS, rate),
            SHAPER_FLOOR,
            1000.0 / (FALL_MS * rate),
            coefficient(RISE_MS, rate),
            1.0 + ATTACK_MS / FALL_MS,
            ONSET_RATIO,
            1.0 / (FULL_RATIO - ONSET_RATIO),
        ]
        amounts = (
            [s.attack_db * s.on / DB_PER_OCTAVE for s in settings],
            [s.sustain_db * s.on / DB_PER_OCTAVE for s in settings],
        )
        self.params = lanes([*([value] * self._count for value in values), *amounts], width)
        self.state = np.repeat(np.array([0.0, SHAPER_FLOOR, SHAPER_FLOOR, 0.0, 0.0], np.float32), width)

    def run(self, bank: np.ndarray) -> None:
        """Shape a bank [float32, shape=(samples, width), contiguous] in place."""
        if self.on:
            kernels(bank).shaper(bank.reshape(-1), self.params, self.state)


def detector(settings: CompressorSettings, sample_rate_hz: int) -> tuple[Biquad, ...]:
    """Return the sections that the compressor's detector listens through."""
    if settings.detector_low_hz <= LEAST_DETECTOR.low:  # at the end of its range it hears everything
        return ()
    return high_pass(settings.detector_low_hz, 2, sample_rate_hz)


class Compressor:
    """Compressors of a bank's channels that keep their state from block to block; those that are off pass unchanged."""

    def __init__(self, settings: Sequence[CompressorSettings], sample_rate_hz: int, width: int) -> None:
        rate, self._count = sample_rate_hz, len(settings)
        self.on = any(s.on for s in settings)
        self.key = Filters([detector(s, rate) if s.on else () for s in settings], width)
        self.params = lanes(zip(*(_params(s, rate) for s in settings), strict=True), width)
        self.state = np.zeros(width, np.float32)

    def gain(self, bank: np.ndarray) -> np.ndarray:
        """Return the gain (linear, with make-up) at every sample of a bank [float32, shape=(samples, width), contiguous]."""
        key = bank
        if self.key.depth:
            key = bank.copy()
            self.key.run(key)
        gain = np.empty(bank.shape, np.float32)
        kernels(bank).compressor(key.reshape(-1), gain.reshape(-1), self.params, self.state)
        return gain

    def run(self, bank: np.ndarray) -> None:
        """Compress a bank in place."""
        if self.on:
            bank *= self.gain(bank)


def _params(s: CompressorSettings, rate: int) -> list[float]:
    """Return a compressor's values as the kernels want them."""
    return [
        s.threshold_db,
        1.0 - 1.0 / s.ratio if s.on else 0.0,
        s.knee_db,
        1.0 - coefficient(s.attack_ms, rate),  # the difference to 1 is what float32 would lose
        1.0 - coefficient(s.release_ms, rate),
        s.makeup_db if s.on else 0.0,
    ]


class LinkedCompressor:
    """A compressor of two channels that follows the louder one, and keeps its state from block to block."""

    def __init__(self, settings: CompressorSettings, sample_rate_hz: int) -> None:
        self._on = settings.on
        self._key = Filters([detector(settings, sample_rate_hz)] * PAIR, PAIR)
        self._params = np.array(_params(settings, sample_rate_hz), np.float32)
        self._state = np.zeros(1, np.float32)

    def gain(self, audio: np.ndarray) -> np.ndarray:
        """Return the gain (linear, with make-up) at every sample of stereo audio [float32, shape=(samples, 2), contiguous]."""
        gain = np.empty(audio.shape[0], np.float32)
        self._go_on(audio, 1.0, 0.0, gain, NOTHING_WANTED)
        return gain

    def run(self, audio: np.ndarray, mix: float = 1.0, out: np.ndarray | None = None, level: float = 1.0) -> None:
        """Compress stereo audio into ``out``, or in place without it; a mix below 1 leaves the rest of it as it was. level : a factor for the whole."""
        out = audio if out is None else out
        if self._on:
            self._go_on(audio, level * mix, level * (1.0 - mix), NOTHING_WANTED, out)
        else:
            np.multiply(audio, np.float32(level), out=out)

    def _go_on(self, audio: np.ndarray, share: float, rest: float, gain: np.ndarray, out: np.ndarray) -> None:
        key, how = self._key, (self._params, self._state, np.float32(share), np.float32(rest))
        kernels(audio).linked(audio.reshape(-1), key.params, key.state, *how, gain, out.reshape(-1))


def static_reduction_db(level_db: np.ndarray, settings: CompressorSettings) -> np.ndarray:
    """Return the settled reduction in dB at input levels in dB: (L - T)(1 - 1/R) above the knee.

    Of a level that stands still. The detector follows each half wave, so that steady tones lose 1 to 2.5 dB less: see ``measure.taken``.
    """
    over = np.asarray(level_db, dtype=np.float64) - settings.threshold_db
    knee = settings.knee_db
    inside = np.clip(over + knee / 2.0, 0.0, None)
    soft = inside**2 / (2.0 * knee) if knee > 0 else np.maximum(over, 0.0)
    return np.where(inside > knee, over, soft) * (1.0 - 1.0 / settings.ratio)


def shaper_reach(settings: ShaperSettings, sample_rate_hz: int) -> Reach:
    """Return what the shaper must hear beyond a span: its envelope and the past of it, and an attack that is under way."""
    if not settings.on:
        return NOTHING
    attack = Reach(exact=ceil((ATTACK_MS + FALL_MS) * sample_rate_hz / 1000.0))
    return of_follower(ENVELOPE_MS, sample_rate_hz) + of_follower(PAST_MS, sample_rate_hz) + attack


def compressor_reach(settings: CompressorSettings, sample_rate_hz: int) -> Reach:
    """Return what the compressor must hear beyond a span."""
    if not settings.on:
        return NOTHING
    key = of_cascades([detector(settings, sample_rate_hz)])
    return key + of_follower(max(settings.attack_ms, settings.release_ms), sample_rate_hz)
