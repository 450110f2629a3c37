"""Compiled filters: cascades of state-variable sections over a bank, bands with their powers, and short convolutions. Private and unchecked: see ``bank``."""

import numpy as np
from numba import njit

from arkund.core.dsp._arithmetic import flush, section
from arkund.core.dsp.compiled import BLOCK, OPTIONS, f32, made_for
from arkund.core.dsp.lanes import fused, larger, load, splat, store


@njit(inline="always", **OPTIONS)
def one_section(stride, x, rows, p, s):
    """Filter rows through a section."""
    L = len(stride)
    a1, a2 = load(stride, s, 0), load(stride, s, L)
    for i in range(rows):
        y, a1, a2 = section(stride, load(stride, x, i * L), a1, a2, p, 0)
        store(x, i * L, y)
    store(s, 0, a1)
    store(s, L, a2)


@njit(inline="always", **OPTIONS)
def two_sections(stride, x, rows, p, s):
    """Filter rows through two sections; the second is a row behind, so that neither waits for the other."""
    L = len(stride)
    a1, a2, b1, b2 = load(stride, s, 0), load(stride, s, L), load(stride, s, 2 * L), load(stride, s, 3 * L)
    y, a1, a2 = section(stride, load(stride, x, 0), a1, a2, p, 0)
    for i in range(1, rows):
        z, b1, b2 = section(stride, y, b1, b2, p, 6 * L)
        y, a1, a2 = section(stride, load(stride, x, i * L), a1, a2, p, 0)
        store(x, (i - 1) * L, z)
    z, b1, b2 = section(stride, y, b1, b2, p, 6 * L)
    store(x, (rows - 1) * L, z)
    store(s, 0, a1)
    store(s, L, a2)
    store(s, 2 * L, b1)
    store(s, 3 * L, b2)


@njit(inline="always", **OPTIONS)
def four_sections(stride, x, rows, p, s):
    """Filter three rows or more through four sections, each a row behind the one before."""
    L = len(stride)
    a1, a2, b1, b2 = load(stride, s, 0), load(stride, s, L), load(stride, s, 2 * L), load(stride, s, 3 * L)
    c1, c2, d1, d2 = load(stride, s, 4 * L), load(stride, s, 5 * L), load(stride, s, 6 * L), load(stride, s, 7 * L)
    A, B, C, D = 0, 6 * L, 12 * L, 18 * L
    ya, a1, a2 = section(stride, load(stride, x, 0), a1, a2, p, A)
    yb, b1, b2 = section(stride, ya, b1, b2, p, B)
    ya, a1, a2 = section(stride, load(stride, x, L), a1, a2, p, A)
    yc, c1, c2 = section(stride, yb, c1, c2, p, C)
    yb, b1, b2 = section(stride, ya, b1, b2, p, B)
    ya, a1, a2 = section(stride, load(stride, x, 2 * L), a1, a2, p, A)
    for i in range(3, rows):
        yd, d1, d2 = section(stride, yc, d1, d2, p, D)
        yc, c1, c2 = section(stride, yb, c1, c2, p, C)
        yb, b1, b2 = section(stride, ya, b1, b2, p, B)
        ya, a1, a2 = section(stride, load(stride, x, i * L), a1, a2, p, A)
        store(x, (i - 3) * L, yd)
    yd, d1, d2 = section(stride, yc, d1, d2, p, D)
    store(x, (rows - 3) * L, yd)
    yc, c1, c2 = section(stride, yb, c1, c2, p, C)
    yb, b1, b2 = section(stride, ya, b1, b2, p, B)
    yd, d1, d2 = section(stride, yc, d1, d2, p, D)
    store(x, (rows - 2) * L, yd)
    yc, c1, c2 = section(stride, yb, c1, c2, p, C)
    yd, d1, d2 = section(stride, yc, d1, d2, p, D)
    store(x, (rows - 1) * L, yd)
    store(s, 0, a1)
    store(s, L, a2)
    store(s, 2 * L, b1)
    store(s, 3 * L, b2)
    store(s, 4 * L, c1)
    store(s, 5 * L, c2)
    store(s, 6 * L, d1)
    store(s, 7 * L, d2)


@njit(**OPTIONS)
def svf_cascade(stride, x, sections, params, state):
    """Filter in place with state-variable sections (topology-preserving trapezoidal form).

    params [sections * 6 * LANES]: a1 - 1, a2, a3, each doubled, and what of the input, of the first state and of the input without the second state
    makes the output: see ``Biquad.state_variable``; state [sections * 2 * LANES].
    """
    LANES = len(stride)
    length = x.size // LANES
    for start in range(0, length, BLOCK):
        rows = min(BLOCK, length - start)
        part = x[start * LANES : (start + rows) * LANES]
        done = 0
        while done < sections:
            p, s = params[done * 6 * LANES :], state[done * 2 * LANES :]
            if sections - done >= 4 and rows >= 3:
                four_sections(stride, part, rows, p, s)
                done += 4
            elif sections - done >= 2:
                two_sections(stride, part, rows, p, s)
                done += 2
            else:
                one_section(stride, part, rows, p, s)
                done += 1
        flush(state)


@njit(inline="always", **OPTIONS)
def two_bands(stride, x, first, last, p, s, sums):
    """Filter rows into two bands of two sections each, and write the sum of squares of each."""
    L = len(stride)
    B, C, D = 6 * L, 12 * L, 18 * L
    a1, a2, b1, b2 = load(stride, s, 0), load(stride, s, L), load(stride, s, 2 * L), load(stride, s, 3 * L)
    c1, c2, d1, d2 = load(stride, s, 4 * L), load(stride, s, 5 * L), load(stride, s, 6 * L), load(stride, s, 7 * L)
    one = two = splat(stride, f32(0.0))
    for i in range(first, last):
        v = load(stride, x, i * L)
        y, a1, a2 = section(stride, v, a1, a2, p, 0)
        z, c1, c2 = section(stride, v, c1, c2, p, C)
        y, b1, b2 = section(stride, y, b1, b2, p, B)
        z, d1, d2 = section(stride, z, d1, d2, p, D)
        one, two = fused(y, y, one), fused(z, z, two)
    store(s, 0, a1)
    store(s, L, a2)
    store(s, 2 * L, b1)
    store(s, 3 * L, b2)
    store(s, 4 * L, c1)
    store(s, 5 * L, c2)
    store(s, 6 * L, d1)
    store(s, 7 * L, d2)
    store(sums, 0, one)
    store(sums, L, two)


@njit(inline="always", **OPTIONS)
def two_wide_bands(stride, x, first, last, p, s, most):
    """Filter rows into two bands of a section each, and write the largest square of each."""
    L = len(stride)
    a1, a2, b1, b2 = load(stride, s, 0), load(stride, s, L), load(stride, s, 2 * L), load(stride, s, 3 * L)
    one = two = splat(stride, f32(0.0))
    for i in range(first, last):
        v = load(stride, x, i * L)
        y, a1, a2 = section(stride, v, a1, a2, p, 0)
        z, b1, b2 = section(stride, v, b1, b2, p, 6 * L)
        one, two = larger(one, y * y), larger(two, z * z)
    store(s, 0, a1)
    store(s, L, a2)
    store(s, 2 * L, b1)
    store(s, 3 * L, b2)
    store(most, 0, one)
    store(most, L, two)


@njit(**OPTIONS)
def band_powers(stride, x, count, ends, params, power, quick):
    """Filter a bank into bands and measure them: mean squares, and largest squares of parts of the same frames.

    ends [frames * parts + 1]: where parts begin, and the last ends; what lies before the first only lets the filters settle. params: two sections for
    each band of ``power`` [frames, LANES, bands: even], then one for each of ``quick`` [frames * parts, LANES, 2]; both are filled.
    """
    L = len(stride)
    frames, bands = power.shape[0], power.shape[2]
    parts = quick.shape[0] // frames
    state, found = np.zeros((2 * bands + 2) * 2 * L, np.float32), np.zeros(2 * L, np.float32)
    wide_p, wide_s = params[2 * bands * 6 * L :], state[2 * bands * 2 * L :]
    for frame in range(-1, frames):  # the first: what only settles
        first, last = (0, ends[0]) if frame < 0 else (ends[frame * parts], ends[(frame + 1) * parts])
        for band in range(0, bands, 2):
            two_bands(stride, x, first, last, params[2 * band * 6 * L :], state[2 * band * 2 * L :], found)
            if frame >= 0:
                for c in range(count):
                    power[frame, c, band] = found[c] / f32(last - first)
                    power[frame, c, band + 1] = found[L + c] / f32(last - first)
        if frame < 0:
            two_wide_bands(stride, x, first, last, wide_p, wide_s, found)
        else:
            for part in range(frame * parts, (frame + 1) * parts):
                two_wide_bands(stride, x, ends[part], ends[part + 1], wide_p, wide_s, found)
                for c in range(count):
                    quick[part, c, 0] = found[c]
                    quick[part, c, 1] = found[L + c]
        if frame % 64 == 0:
            flush(state)


@njit(**OPTIONS)
def fir(x, taps, out):
    """Write out[i] = sum of taps[k] * x[i + taps.size - 1 - k], always added up in the same order."""
    for start in range(0, out.size, BLOCK):
        count = min(BLOCK, out.size - start)
        part = out[start : start + count]
        part[:] = f32(0.0)
        for k in range(taps.size):
            tap = taps[taps.size - 1 - k]
            seen = x[start + k : start + k + count]
            for i in range(count):
                part[i] += tap * seen[i]


BANKS = made_for(svf_cascade, band_powers)
