"""The chain of a mic sample by sample in double precision: slow and plain. Tests and the bench hold the compiled kernels against it."""

import math

import numpy as np

from arkund.core.clean.process import KEY_RELEASE_MS, LINGER_S, key_filter
from arkund.core.clean.settings import GateSettings
from arkund.core.dsp.bank import coefficient
from arkund.core.dsp.filters import Biquad
from arkund.core.plan.plan import MicPlan
from arkund.core.punch import process as punch
from arkund.core.punch.settings import CompressorSettings, ShaperSettings
from arkund.core.tone.process import sections
from arkund.core.units import power_to_db


def chain(x: np.ndarray, mic: MicPlan, rate: int) -> np.ndarray:
    """Return a mic [shape=(samples,)] through gate, tone, shaper and compressor, silence following."""
    x = np.asarray(x, float)
    if mic.gate.on:
        early = round(mic.gate.lookahead_ms * rate / 1000)
        key = filtered(np.concatenate([x, np.zeros(early)]), key_filter(mic.gate, rate))
        x = x * gate_gain(key, mic.gate, rate)[early:]
    x = filtered(x, sections(mic.tone, rate))
    if mic.shaper.on:
        x = shaped(x, mic.shaper, rate)
    if mic.compressor.on:
        x = x * compressor_gain(filtered(x, punch.detector(mic.compressor, rate)), mic.compressor, rate)
    return x


def residual_db(got: np.ndarray, wanted: np.ndarray) -> float:
    """Return the power of the difference of two signals against that of the wanted one, in dB."""
    return float(power_to_db(np.mean((got - wanted) ** 2) / np.mean(wanted**2)))


def filtered(x: np.ndarray, cascade: tuple[Biquad, ...]) -> np.ndarray:
    """Return a signal through sections in direct form."""
    for s in cascade:
        out = np.empty(len(x))
        x1 = x2 = y1 = y2 = 0.0
        for i, v in enumerate(x.tolist()):
            y = s.b0 * v + s.b1 * x1 + s.b2 * x2 - s.a1 * y1 - s.a2 * y2
            x1, x2, y1, y2 = v, x1, y, y1
            out[i] = y
        x = out
    return x


def gate_gain(x: np.ndarray, s: GateSettings, rate: int) -> np.ndarray:
    """Return the gate's gain for a key signal."""
    env, is_open, hold, gain_db, lingered = 0.0, False, 0.0, -s.range_db, 0
    opens, closes = 10 ** (s.threshold_db / 20), 10 ** ((s.threshold_db - s.hysteresis_db) / 20)
    ka, kr, kk = (coefficient(t, rate) for t in (s.attack_ms, s.release_ms, KEY_RELEASE_MS))
    out = np.empty(len(x))
    for i, v in enumerate(x.tolist()):
        env = max(abs(v), env * kk, 1e-9)
        lingered = lingered + 1 if closes <= env <= opens else 0
        if env > opens:
            is_open = True
        elif env < closes or lingered > LINGER_S * rate:
            is_open = False
        hold = s.hold_ms * rate / 1000 if is_open else max(hold - 1, 0)
        target = 0.0 if is_open or hold > 0.5 else -s.range_db
        gain_db = target + (gain_db - target) * (ka if target > gain_db else kr)
        out[i] = 10 ** (gain_db / 20)
    return out


def compressor_gain(x: np.ndarray, s: CompressorSettings, rate: int) -> np.ndarray:
    """Return the compressor's gain for a key signal."""
    reduction, out = 0.0, np.empty(len(x))
    ka, kr = coefficient(s.attack_ms, rate), coefficient(s.release_ms, rate)
    for i, v in enumerate(x.tolist()):
        over = 20 * math.log10(abs(v) + 1e-9) - s.threshold_db
        inside = over + s.knee_db / 2
        curve = over if inside > s.knee_db else inside**2 / (2 * s.knee_db) if inside > 0 else 0.0
        target = curve * (1 - 1 / s.ratio)
        reduction = target + (reduction - target) * (ka if target > reduction else kr)
        out[i] = 10 ** ((s.makeup_db - reduction) / 20)
    return out


def shaped(x: np.ndarray, s: ShaperSettings, rate: int) -> np.ndarray:
    """Return a signal with its attack and sustain shaped."""
    low, env, past, left, share = 0.0, punch.SHAPER_FLOOR, punch.SHAPER_FLOOR, 0.0, 0.0
    dull = math.exp(-2 * math.pi * punch.BRIGHT_HZ / rate)
    kr, kp, ka = (coefficient(t, rate) for t in (punch.ENVELOPE_MS, punch.PAST_MS, punch.RISE_MS))
    out = np.empty(len(x))
    for i, v in enumerate(x.tolist()):
        low = v + (low - v) * dull
        env = max(abs(v - low) + punch.SHAPER_FLOOR, env * kr)
        past = env + (past - env) * kp if env > past else env
        onset = (env / past - punch.ONSET_RATIO) / (punch.FULL_RATIO - punch.ONSET_RATIO)
        held_from = 1.0 + punch.ATTACK_MS / punch.FALL_MS
        left = max(left - 1000.0 / (punch.FALL_MS * rate), min(max(onset, 0.0), 1.0) * held_from)
        wanted = min(left, 1.0)
        share = wanted + (share - wanted) * ka if wanted > share else wanted
        out[i] = v * 10 ** ((s.attack_db * share + s.sustain_db * (1.0 - share)) / 20)
    return out
