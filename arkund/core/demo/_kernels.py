"""Compiled: ringing modes and delayed tracks of the synthesised kit. Private and unchecked."""

import numpy as np
from numba import njit

from arkund.core.dsp.compiled import PLAIN


@njit(fastmath=True, **PLAIN)
def add_delayed(out, track, late, first, second):
    """Add a track later by ``late`` samples, and once more a sample after that."""
    n = out.size - late
    if n > 0:
        out[late] += first * track[0]
    for i in range(1, n):
        out[late + i] += first * track[i] + second * track[i - 1]


@njit(fastmath=True, **PLAIN)
def damped_modes(out, turns, phases, amplitudes, radii, lengths):
    """Add decaying sines: each by the recurrence of a two-pole resonator, in float64.

    turns [radians per sample], radii [amplitude factor per sample], lengths [samples].
    """
    for k in range(turns.size):
        a1, a2 = 2.0 * radii[k] * np.cos(turns[k]), radii[k] * radii[k]
        before = amplitudes[k] * np.sin(phases[k] - turns[k]) / radii[k]
        now = amplitudes[k] * np.sin(phases[k])
        for i in range(min(lengths[k], out.size)):
            out[i] += now
            now, before = a1 * now - a2 * before, now
