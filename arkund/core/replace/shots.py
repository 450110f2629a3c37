"""Hits of the shelf laid under a drum: which of them a strike opens, how strongly, at which pitch and length."""

import functools
import math
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from scipy.signal import butter, sosfilt

from arkund.core.dsp import _drawing
from arkund.core.dsp.crossfade import cubic
from arkund.core.dsp.delay import HALF_TAPS, part_sample_filter, read_at_speed
from arkund.core.files.audio import read_padded
from arkund.core.replace.made import EVERY
from arkund.core.replace.sampled import OPEN_HIGH_HZ, OPEN_LOW_HZ, Sampled, Shot
from arkund.core.units import db_to_gain, ms_to_samples

SAME_STRENGTH_DB = 1.0  # shots for strengths no further apart are variants of each other
FADE_MS, FADE_SHARE = 30.0, 1 / 3  # of a shot that is cut short
MOST_LATE = Shot.ranges()["late_samples"].high
BELOW_NYQUIST = 0.45  # of the rate: what a higher pitch would fold is taken off above it


@dataclass(frozen=True, slots=True)
class Sound:
    """A shot ready to be struck: float32 [shape=(samples,)], its first sample after ``before`` others."""

    samples: np.ndarray
    before: int


SILENT = Sound(np.zeros(1, np.float32), 0)
PARTS = 32  # of a sample, at which shots land: within 0.01 dB at 20 kHz


def prepared(sound: Sound, sampled: Sampled, sample_rate_hz: int) -> Sound:
    """Return a hit at a layer's pitch, length and filters; with all of them at rest the very same."""
    x, before = sound.samples, sound.before
    if sampled.pitch:
        speed = 2.0 ** (sampled.pitch / 12.0)
        if speed > 1.0:
            x = sosfilt(butter(8, BELOW_NYQUIST / speed, fs=1.0, output="sos"), x).astype(np.float32)
        first, last = -int(np.ceil(before / speed)), int(np.ceil((x.size - before) / speed))
        x, before = read_at_speed(lambda a, b: read_padded(x, a + before, b + before), speed, first, last), -first
    for kind, hz, rest in (
        ("highpass", sampled.high_pass_hz, OPEN_LOW_HZ),
        ("lowpass", sampled.low_pass_hz, OPEN_HIGH_HZ),
    ):
        if hz != rest:
            x = sosfilt(butter(2, hz, kind, fs=sample_rate_hz, output="sos"), x).astype(np.float32)
    length = before + round(ms_to_samples(sampled.lasts_ms, sample_rate_hz))
    if length < x.size:
        fade = max(min(round(ms_to_samples(FADE_MS, sample_rate_hz)), int((length - before) * FADE_SHARE)), 1)
        x = x[:length].copy()
        x[length - fade :] *= cubic(np.arange(fade, 0, -1) / fade).astype(np.float32)
    return Sound(x, before)


def read(sampled: Sampled, sounds: Mapping[str, Sound], start: int, stop: int) -> np.ndarray:
    """Return a span of a layer in the time of the recording, float32 [shape=(stop - start,)].

    sounds : the prepared hits by capture; a strike whose hit is not among them is silent
    """
    out = np.zeros(stop - start)
    at, gains, which = struck(sampled)
    if not at.size:
        return out.astype(np.float32)
    mine = [sounds.get(shot.capture, SILENT) for shot in sampled.shots]
    sizes, before = (np.array(row, np.int64) for row in zip(*((s.samples.size, s.before) for s in mine), strict=True))
    reach = int(sizes.max()) + HALF_TAPS + math.ceil(MOST_LATE)
    low, high = np.searchsorted(at, start - reach), np.searchsorted(at, stop + reach)
    near = which[low:high]
    late = np.array([shot.late_samples for shot in sampled.shots])[near]
    parts = np.round((at[low:high] - late) * PARTS).astype(np.int64) - before[near] * PARTS
    laid, first = np.concatenate([s.samples for s in mine]).astype(float), np.cumsum(sizes) - sizes
    _drawing.add_between_samples(out, start, parts, gains[low:high], first[near], sizes[near], laid, _readers())
    return out.astype(np.float32)


@functools.cache
def _readers() -> np.ndarray:
    """Return the taps that read a sound later by each of PARTS parts of a sample [float64, shape=(PARTS, 2 * HALF_TAPS)]."""
    return np.stack([part_sample_filter(k / PARTS) for k in range(PARTS)]).astype(float)


@functools.lru_cache(maxsize=64)
def struck(sampled: Sampled) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return when a layer is struck [samples, in parts], as factors how strongly, and which of its shots is opened.

    The shot for the nearest strength is taken; among several for the same strength one is drawn that was not the last. Drawn from ``variation`` alone, so that
    a print repeats.
    """
    rows = np.array(sampled.strikes, float).reshape(-1, 2)
    if sampled.least_db > EVERY:
        rows = rows[rows[:, 1] >= sampled.least_db]
    at, levels = rows[:, 0], rows[:, 1]
    if not sampled.shots or not at.size:
        return np.zeros(0), np.zeros(0), np.zeros(0, np.int64)
    stands_for = np.array([shot.for_db for shot in sampled.shots])
    nearest = np.abs(levels[:, None] - stands_for[None, :]).argmin(axis=1)
    variants = [np.flatnonzero(np.abs(stands_for - db) <= SAME_STRENGTH_DB).tolist() for db in stands_for]
    drawn = np.random.default_rng(sampled.variation).random(at.size)
    which, last = np.zeros(at.size, np.int64), -1
    for k, (near, chance) in enumerate(zip(nearest.tolist(), drawn.tolist(), strict=True)):
        some = [each for each in variants[near] if each != last] or variants[near]
        which[k] = last = some[int(chance * len(some))]
    gains = np.array([shot.gain_db for shot in sampled.shots])[which]
    return at, db_to_gain(gains + sampled.follow * levels), which
