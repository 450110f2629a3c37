"""Compiled kernels that run several channels in lock-step. Private and unchecked: see ``bank``.

Layout: audio is a flat float32 array, sample after sample, each a row of LANES values, one for each channel; parameters and states of a stage are rows
of LANES values too. A row is one value of the type in ``lanes``; a set of kernels is made for each of WIDTHS, and all lanes are computed, in use or not.
Logarithms and exponentials are polynomials: log2 within 2e-5 (0.0001 dB), exp2 within 1e-5 relative.
Kernels that call each other stay in this file, because the on-disk cache watches one file only.
"""

from functools import partial
from types import SimpleNamespace

import numpy as np
from numba import njit

from arkund.core import units
from arkund.core.dsp.lanes import (
    exponent,
    fused,
    inverse,
    larger,
    load,
    load_one,
    mantissa,
    paired,
    power_of_two,
    rounded_down,
    size,
    smaller,
    splat,
    store,
    store_24,
    store_wholes,
    tiled,
    triangular,
    truncated,
    turned,
    unzipped,
    where_over,
    zipped,
)

WIDTHS = (4, 8, 16)  # channels of a bank
NARROW, WIDE = WIDTHS[0], WIDTHS[-1]
PAIR = 2  # interleaved stereo is a bank of two, for what is done to it
BLOCK = 128  # samples between two flushes of denormal states
OPTIONS = {
    "nogil": True,
    "cache": True,
    "error_model": "numpy",
    # No "contract" and no "arcp": every width and lane must round alike, so that a strip's samples do not depend on its bank.
    "fastmath": {"nsz"},
    "boundscheck": False,
}
f32, i32, u32 = np.float32, np.int32, np.uint32
FOUR, EIGHT, FLAT = (None,) * 4, (None,) * 8, (None,) * 16  # values side by side
NEAR = len(EIGHT)
SUMMED = 2 * BLOCK  # samples of each channel that are added up at a time
SPARE_BYTES = 24  # behind what dither_24 writes
TINY = f32(1e-15)  # states below -300 dB are set to zero, far above the denormal range
FLOOR = f32(1e-9)  # envelope floor, -180 dBFS
DB_PER_OCTAVE = f32(units.DB_PER_OCTAVE)
HALF_DB_PER_OCTAVE = f32(units.DB_PER_OCTAVE / 2.0)
OCTAVE_PER_DB = f32(1.0 / units.DB_PER_OCTAVE)


@njit(inline="always", **OPTIONS)
def log2(value):
    """log2 of a positive normal float32: exponent from the bits, degree-5 polynomial of the mantissa."""
    bits = f32(value).view(i32)
    exponent = f32((bits >> i32(23)) - i32(127))
    m = i32((bits & i32(0x007FFFFF)) | i32(0x3F800000)).view(f32)
    p = f32(0.0448721465)
    p = p * m - f32(0.41655276)
    p = p * m + f32(1.6311166)
    p = p * m - f32(3.55074626)
    p = p * m + f32(5.09167748)
    p = p * m - f32(2.80035465)
    return exponent + p


@njit(inline="always", **OPTIONS)
def exp2(value):
    """2 to the power of a float32 between -60 and 60: exponent into the bits, degree-4 polynomial."""
    v = min(max(f32(value), f32(-60.0)), f32(60.0))
    whole = i32(v + f32(64.0)) - i32(64)
    f = v - f32(whole)
    p = f32(0.0134266852)
    p = p * f + f32(0.0522424722)
    p = p * f + f32(0.241280206)
    p = p * f + f32(0.693044845)
    p = p * f + f32(1.0)  # exact at 0: a gain of 0 dB changes nothing
    return p * i32((whole + i32(127)) << i32(23)).view(f32)


@njit(**OPTIONS)
def polynomials(values, logs, powers):
    """Evaluate both polynomials over arrays, so that their error bounds can be tested."""
    for i in range(values.size):
        logs[i] = log2(abs(values[i]) + FLOOR)
        powers[i] = exp2(values[i])


@njit(**OPTIONS)
def decibels(power, floor, out):
    """Write 10 log10 of each row of powers plus its column's floor; rows of floor.size values."""
    columns = floor.size
    for row in range(power.size // columns):
        for c in range(columns):
            out[row * columns + c] = log2(power[row * columns + c] + floor[c]) * HALF_DB_PER_OCTAVE


@njit(inline="always", **OPTIONS)
def flush(state):
    for i in range(state.size):
        s = state[i]
        state[i] = s if abs(s) > TINY else f32(0.0)


# The kernels of a bank. ``stride``, a tuple as long as the bank is wide, tells the compiler the stride: a row is one value of lanes, and what goes from
# row to row stays in registers. (A closure over the width would do so too, but code of closures that call each other is not found again in the cache.)


@njit(inline="always", **OPTIONS)
def section(stride, v0, ic1, ic2, p, at):
    """Return a section's output and its next states; its parameters lie from ``at`` on."""
    L = len(stride)
    v3, a2 = v0 - ic2, load(stride, p, at + L)
    d1 = fused(load(stride, p, at), ic1, a2 * v3)
    d2 = fused(a2, ic1, load(stride, p, at + 2 * L) * v3)
    y = fused(
        load(stride, p, at + 3 * L), v0, fused(load(stride, p, at + 4 * L), ic1, load(stride, p, at + 5 * L) * v3)
    )
    return y, ic1 + d1, ic2 + d2


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


@njit(inline="always", **OPTIONS)
def lanes_log2(stride, value):
    """``log2`` of lanes."""
    m = mantissa(value)
    p = fused(splat(stride, f32(0.0448721465)), m, splat(stride, f32(-0.41655276)))
    p = fused(p, m, splat(stride, f32(1.6311166)))
    p = fused(p, m, splat(stride, f32(-3.55074626)))
    p = fused(p, m, splat(stride, f32(5.09167748)))
    p = fused(p, m, splat(stride, f32(-2.80035465)))
    return exponent(value) + p


@njit(inline="always", **OPTIONS)
def lanes_exp2(stride, value):
    """``exp2`` of lanes."""
    v = smaller(larger(value, splat(stride, f32(-60.0))), splat(stride, f32(60.0)))
    up = splat(stride, f32(64.0))
    whole = truncated(v + up) - up
    f = v - whole
    p = fused(splat(stride, f32(0.0134266852)), f, splat(stride, f32(0.0522424722)))
    p = fused(p, f, splat(stride, f32(0.241280206)))
    p = fused(p, f, splat(stride, f32(0.693044845)))
    p = fused(p, f, splat(stride, f32(1.0)))  # exact at 0: a gain of 0 dB changes nothing
    return p * power_of_two(whole)


# What gate, shaper and compressor do is split in two: what depends on the sample before goes row by row, and all else for many values at a time, across
# rows, because no row waits for another there. Blocks are worked on in buffers that are a multiple of FLAT long; what stands behind the rows is not used.


@njit(inline="always", **OPTIONS)
def to_gains(octaves, values):
    """Turn a buffer's octaves into factors."""
    for at in range(0, values, len(FLAT)):
        store(octaves, at, lanes_exp2(FLAT, load(FLAT, octaves, at)))


@njit(inline="always", **OPTIONS)
def gate_block(stride, key, gain, rows, params, state):
    """Write the gate's gain for each row of the key: see ``gate``."""
    L = len(stride)
    zero, one = splat(stride, f32(0.0)), splat(stride, f32(1.0))
    floor, half, least = splat(stride, FLOOR), splat(stride, f32(0.5)), splat(stride, f32(-1e-7))
    opens, closes = load(stride, params, 0), load(stride, params, L)
    attack, release = load(stride, params, 2 * L), load(stride, params, 3 * L)
    hold, closed = load(stride, params, 4 * L), load(stride, params, 5 * L)
    key_release, longest = load(stride, params, 6 * L), load(stride, params, 7 * L)
    env, was, left = load(stride, state, 0), load(stride, state, L), load(stride, state, 2 * L)
    now, lingered = load(stride, state, 3 * L), load(stride, state, 4 * L)
    for i in range(rows):
        env = larger(larger(size(load(stride, key, i * L)), floor), env * key_release)
        above = where_over(env, opens, one, zero)
        below = where_over(closes, env, one, zero)
        lingered = (lingered + one) * (one - larger(above, below))
        too_long = where_over(lingered, longest, one, zero)
        was = larger(above, was * (one - larger(below, too_long)))
        left = larger(left - one, hold * was)  # which is never below 0
        target = where_over(larger(was, smaller(left, one)), half, zero, closed)
        k = where_over(target, now, attack, release)
        now = fused(now - target, k, target)
        now = where_over(least, now, now, zero)
        store(gain, i * L, now)
    store(state, 0, env)
    store(state, L, was)
    store(state, 2 * L, left)
    store(state, 3 * L, now)
    store(state, 4 * L, lingered)
    to_gains(gain, rows * L)


@njit(**OPTIONS)
def gate(stride, key, gain, params, state):
    """Write the gate's gain for each sample of the key signal.

    params rows: 0 open level, 1 close level, 2 attack coefficient, 3 release coefficient, 4 hold [samples],
    5 closed gain [octaves], 6 coefficient of the key's release, 7 longest stay between the two levels [samples].
    state rows: 0 key envelope, 1 open, 2 hold left, 3 gain [octaves], 4 lingered.
    """
    values = BLOCK * len(stride)
    made = np.zeros(values, np.float32)
    for start in range(0, key.size, values):
        part = key[start : start + values]
        gate_block(stride, part, made, part.size // len(stride), params, state)
        copied(stride, made[: part.size], gain[start:])


@njit(inline="always", **OPTIONS)
def shaper_block(stride, x, rows, params, state, one, two):
    """Shape rows in place, with two buffers to work in: see ``shaper``."""
    L = len(stride)
    dull, release, slow = load(stride, params, 0), load(stride, params, L), load(stride, params, 2 * L)
    floor = larger(load(stride, params, 3 * L), splat(stride, FLOOR))  # lanes that nobody uses have none
    step, onset = load(stride, params, 4 * L), load(stride, params, 5 * L)
    low, env, rest = load(stride, state, 0), load(stride, state, L), load(stride, state, 2 * L)
    left, stroke = load(stride, state, 3 * L), load(stride, state, 4 * L)
    for i in range(rows):
        now = load(stride, x, i * L)
        low = fused(low - now, dull, now)
        env = larger(size(now - low) + floor, env * release)
        rest = where_over(env, rest, fused(rest - env, slow, env), env)
        store(one, i * L, env)
        store(two, i * L, rest)
    zero, full, top = splat(FLAT, f32(0.0)), splat(FLAT, f32(1.0)), tiled(FLAT, load(stride, params, 6 * L))
    least, steep = tiled(FLAT, load(stride, params, 7 * L)), tiled(FLAT, load(stride, params, 8 * L))
    for at in range(0, rows * L, len(FLAT)):
        rise = load(FLAT, one, at) * inverse(load(FLAT, two, at)) - least
        store(one, at, smaller(larger(rise * steep, zero), full) * top)
    most = splat(stride, f32(1.0))
    for i in range(rows):
        left = larger(left - step, load(stride, one, i * L))
        wanted = smaller(left, most)
        stroke = where_over(wanted, stroke, fused(stroke - wanted, onset, wanted), wanted)
        store(one, i * L, stroke)
    store(state, 0, low)
    store(state, L, env)
    store(state, 2 * L, rest)
    store(state, 3 * L, left)
    store(state, 4 * L, stroke)
    attack, sustain = tiled(FLAT, load(stride, params, 9 * L)), tiled(FLAT, load(stride, params, 10 * L))
    for at in range(0, rows * L, len(FLAT)):
        store(one, at, lanes_exp2(FLAT, fused(attack - sustain, load(FLAT, one, at), sustain)))
    times(stride, x[: rows * L], one)


@njit(**OPTIONS)
def shaper(stride, x, params, state):
    """Shape transients in place: one gain for a stroke's attack, another for what follows.

    An onset is where the envelope of what is bright stands well above what it was milliseconds ago, by its ratio, so that the result does not depend on level.
    params rows: 0 coefficient of the low-pass that is taken from the key, 1 release of its envelope, 2 how slowly the past follows it, 3 floor, 4 how far the
    attack's gain falls in a sample, 5 coefficient of its rise, 6 where it falls from (above 1: it is held), 7 ratio at which an onset begins, 8 steepness from
    there to a full one, 9 attack and 10 sustain [octaves]. state rows: 0 low-passed, 1 envelope, 2 its past, 3 left of the attack, 4 share of it.
    """
    values = BLOCK * len(stride)
    one, two = np.zeros(values, np.float32), np.zeros(values, np.float32)
    for start in range(0, x.size, values):
        part = x[start : start + values]
        shaper_block(stride, part, part.size // len(stride), params, state, one, two)


@njit(inline="always", **OPTIONS)
def reduction_db(stride, level, threshold, slope, knee, reach, share):
    """Return what the static curve takes from magnitudes, in dB: quadratic within the knee; reach: half of it, share: 1 / (2 knee)."""
    zero = splat(stride, f32(0.0))
    over = fused(lanes_log2(stride, level + splat(stride, FLOOR)), splat(stride, DB_PER_OCTAVE), zero - threshold)
    inside = over + reach
    soft = where_over(inside, zero, inside * inside * share, zero)
    return where_over(inside, knee, over, soft) * slope


@njit(inline="always", **OPTIONS)
def compressor_block(stride, key, gain, rows, params, state):
    """Write the compressor's gain for each row of the key, a buffer: see ``compressor``."""
    L = len(stride)
    half, two, floor = splat(FLAT, f32(0.5)), splat(FLAT, f32(2.0)), splat(FLAT, FLOOR)
    threshold, slope = tiled(FLAT, load(stride, params, 0)), tiled(FLAT, load(stride, params, L))
    knee, makeup = tiled(FLAT, load(stride, params, 2 * L)), tiled(FLAT, load(stride, params, 5 * L))
    reach, share = half * knee, inverse(fused(two, knee, floor))
    for at in range(0, rows * L, len(FLAT)):
        level = size(load(FLAT, key, at))
        store(gain, at, reduction_db(FLAT, level, threshold, slope, knee, reach, share))
    attack, release = load(stride, params, 3 * L), load(stride, params, 4 * L)
    now = load(stride, state, 0)
    for i in range(rows):
        wanted = load(stride, gain, i * L)
        now = fused(where_over(wanted, now, attack, release), wanted - now, now)
        store(gain, i * L, now)
    store(state, 0, where_over(now, splat(stride, f32(1e-12)), now, splat(stride, f32(0.0))))
    per_db = splat(FLAT, OCTAVE_PER_DB)
    for at in range(0, rows * L, len(FLAT)):
        store(gain, at, lanes_exp2(FLAT, (makeup - load(FLAT, gain, at)) * per_db))


@njit(**OPTIONS)
def compressor(stride, key, gain, params, state):
    """Write the compressor's gain for each sample of the key signal.

    Static curve with quadratic knee, then attack and release on the reduction in dB (Giannoulis, Massberg and
    Reiss, J. Audio Eng. Soc. 60 (2012), eqs. 4 and 17). params rows: 0 threshold [dB], 1 slope 1 - 1/R,
    2 knee [dB], 3 and 4 the share of the way that attack and release go in a sample, 5 make-up [dB]. state row: 0 reduction [dB].
    """
    values = BLOCK * len(stride)
    heard, made = np.zeros(values, np.float32), np.zeros(values, np.float32)
    for start in range(0, key.size, values):
        part = key[start : start + values]
        copied(stride, part, heard)
        compressor_block(stride, heard, made, part.size // len(stride), params, state)
        copied(stride, made[: part.size], gain[start:])


@njit(inline="always", **OPTIONS)
def copied(stride, x, to):
    """Copy rows. (An assignment of slices is several times as slow: it goes value by value.)"""
    for at in range(0, x.size, len(stride)):
        store(to, at, load(stride, x, at))


@njit(inline="always", **OPTIONS)
def chosen(stride, x, mine, to):
    """Copy those lanes of rows that are 1 in ``mine``."""
    half = splat(stride, f32(0.5))
    for at in range(0, x.size, len(stride)):
        store(to, at, where_over(mine, half, load(stride, x, at), load(stride, to, at)))


@njit(inline="always", **OPTIONS)
def times(stride, x, gain):
    """Multiply rows by a gain, in place."""
    L = len(stride)
    for at in range(0, x.size, L):
        store(x, at, load(stride, x, at) * load(stride, gain, at))


@njit(**OPTIONS)
def chain(
    stride,
    x,
    samples,
    early,
    gate_params,
    gate_state,
    filters,
    shaper_params,
    shaper_state,
    comp_params,
    comp_state,
):
    """Run gate, filters, shaper and compressor over ``samples`` rows in place, a block at a time through all of them.

    early [LANES]: by how much each lane's gate looks ahead; the rows up to the largest of them beyond ``samples`` are only looked at. filters: for
    the gate's key, the equaliser and the compressor's detector (params, state). Stages whose params are empty are left out.
    """
    LANES = len(stride)
    values = BLOCK * LANES
    key, gain = np.zeros(values, np.float32), np.zeros(values, np.float32)
    key_params, key_state, eq_params, eq_state, detector_params, detector_state = filters
    # The lanes that look equally far ahead are taken together.
    looks, ahead, mine = 0, np.zeros(LANES, np.int64), np.zeros(LANES * LANES, np.float32)
    for c in range(LANES):
        k = 0
        while k < looks and ahead[k] != early[c]:
            k += 1
        looks = max(looks, k + 1)
        ahead[k], mine[k * LANES + c] = early[c], f32(1.0)
    for start in range(0, samples, BLOCK):
        rows = min(BLOCK, samples - start)
        part, wide = x[start * LANES : (start + rows) * LANES], key[: rows * LANES]
        if gate_params.size:
            for k in range(looks):
                seen = x[(start + ahead[k]) * LANES : (start + ahead[k] + rows) * LANES]
                chosen(stride, seen, load(stride, mine, k * LANES), key)
            svf_cascade(stride, wide, key_params.size // (6 * LANES), key_params, key_state)
            gate_block(stride, key, gain, rows, gate_params, gate_state)
            times(stride, part, gain)
        svf_cascade(stride, part, eq_params.size // (6 * LANES), eq_params, eq_state)
        if shaper_params.size:
            shaper_block(stride, part, rows, shaper_params, shaper_state, key, gain)
        if comp_params.size:
            copied(stride, part, key)
            svf_cascade(stride, wide, detector_params.size // (6 * LANES), detector_params, detector_state)
            compressor_block(stride, key, gain, rows, comp_params, comp_state)
            times(stride, part, gain)


@njit(inline="always", **OPTIONS)
def to_reduction(heard, work, params):
    """Write what the static curve takes from the louder channel of a block of interleaved stereo."""
    half, two, floor = splat(EIGHT, f32(0.5)), splat(EIGHT, f32(2.0)), splat(EIGHT, FLOOR)
    threshold, slope, knee = splat(EIGHT, params[0]), splat(EIGHT, params[1]), splat(EIGHT, params[2])
    reach, share = half * knee, inverse(fused(two, knee, floor))
    for i in range(0, BLOCK, NEAR):
        left, right = unzipped(load(EIGHT, heard, PAIR * i), load(EIGHT, heard, PAIR * i + NEAR))
        store(work, i, reduction_db(EIGHT, larger(size(left), size(right)), threshold, slope, knee, reach, share))


@njit(**OPTIONS)
def linked(stride, x, key_params, key_state, params, state, share, rest, gain, out):
    """Compress interleaved stereo by its louder channel: ``out`` gets x times (share * gain + rest).

    The same curve and times as ``compressor`` (params without lanes); what does not depend on the past is done for samples side by side. The key goes
    through a section, where there is one. ``out`` may be x itself; either of gain and out may be empty where it is not wanted.
    """
    key, wanted = np.zeros(PAIR * BLOCK, np.float32), np.zeros(BLOCK, np.float32)
    made = np.zeros(BLOCK + PAIR, np.float32)
    zero, tiny, per_db = splat(stride, f32(0.0)), splat(stride, TINY), splat(EIGHT, OCTAVE_PER_DB)
    attack, release, makeup = splat(stride, params[3]), splat(stride, params[4]), splat(EIGHT, params[5])
    least, filtered, samples = splat(stride, f32(1e-12)), key_params.size > 0, x.size // PAIR
    now, a1, a2 = splat(stride, state[0]), zero, zero
    if filtered:
        a1, a2 = load(stride, key_state, 0), load(stride, key_state, PAIR)
        for i in range(0, PAIR * min(BLOCK, samples), PAIR):
            y, a1, a2 = section(stride, load(stride, x, i), a1, a2, key_params, 0)
            store(key, i, y)
    for start in range(0, samples, BLOCK):
        rows = min(BLOCK, samples - start)
        part, following = x[PAIR * start : PAIR * (start + rows)], x[PAIR * (start + rows) :]
        beyond = min(PAIR * BLOCK, following.size) if filtered else 0
        if not filtered:
            copied(stride, part, key)
        to_reduction(key, wanted, params)
        a1, a2 = where_over(size(a1), tiny, a1, zero), where_over(size(a2), tiny, a2, zero)
        for i in range(rows):
            goal = load_one(stride, wanted, i)
            now = fused(where_over(goal, now, attack, release), goal - now, now)
            store(made, i, now)  # the second lane, which is the same, gives way to the next sample
            if PAIR * i < beyond:  # the key of the next block beside it, so that neither waits for the other
                y, a1, a2 = section(stride, load(stride, following, PAIR * i), a1, a2, key_params, 0)
                store(key, PAIR * i, y)
        now = where_over(now, least, now, zero)
        for i in range(0, BLOCK, NEAR):
            store(made, i, lanes_exp2(EIGHT, (makeup - load(EIGHT, made, i)) * per_db))
        if gain.size:
            for i in range(rows):
                gain[start + i] = made[i]
        if out.size:
            heard = out[PAIR * start : PAIR * (start + rows)]
            for i in range(0, rows - NEAR + 1, NEAR):
                g = splat(EIGHT, share) * load(EIGHT, made, i) + splat(EIGHT, rest)
                first, second = zipped(g, g)
                store(heard, PAIR * i, load(EIGHT, part, PAIR * i) * first)
                store(heard, PAIR * i + NEAR, load(EIGHT, part, PAIR * i + NEAR) * second)
            for i in range(rows - rows % NEAR, rows):
                g = share * made[i] + rest
                heard[2 * i] = part[2 * i] * g
                heard[2 * i + 1] = part[2 * i + 1] * g
    if filtered:
        store(key_state, 0, a1)
        store(key_state, PAIR, a2)
    store(made, 0, now)
    state[0] = made[0]


@njit(**OPTIONS)
def add_scaled(x, gain, out):
    """Add a signal times a gain to another."""
    for i in range(out.size):
        out[i] += x[i] * gain


@njit(**OPTIONS)
def hold_back(wanted, smoothed, coefficient, start):
    """Follow a wanted reduction: rise at once, fall exponentially with a release coefficient."""
    now = start
    for i in range(wanted.size):
        target = wanted[i]
        falling = target + (now - target) * coefficient
        now = target if target > now else falling
        now = now if now > FLOOR else f32(0.0)
        smoothed[i] = now


@njit(**OPTIONS)
def follow(level, out, attack, release):
    """One-pole envelope of a non-negative level with separate attack and release coefficients."""
    now = f32(0.0)
    for i in range(level.size):
        v = level[i]
        k = attack if v > now else release
        now = v + (now - v) * k
        now = now if now > FLOOR else f32(0.0)
        out[i] = now


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


@njit(inline="always", **OPTIONS)
def turn_four(bank, lanes, one, two, three, four, apart):
    """Copy a block of four channels into four lanes of a bank, or out of them."""
    for i in range(0, BLOCK, 4):
        k = i * lanes
        if apart:
            a, b, c, d = turned(
                load(FOUR, bank, k),
                load(FOUR, bank, k + lanes),
                load(FOUR, bank, k + 2 * lanes),
                load(FOUR, bank, k + 3 * lanes),
            )
            store(one, i, a)
            store(two, i, b)
            store(three, i, c)
            store(four, i, d)
        else:
            a, b, c, d = turned(load(FOUR, one, i), load(FOUR, two, i), load(FOUR, three, i), load(FOUR, four, i))
            store(bank, k, a)
            store(bank, k + lanes, b)
            store(bank, k + 2 * lanes, c)
            store(bank, k + 3 * lanes, d)


@njit(**OPTIONS)
def turn(bank, lanes, count, rows, late, apart):
    """Copy ``count`` channels into the lanes of a bank, or where ``apart`` out of them, each beginning ``late`` samples after the bank does.

    Four channels go at a time where all of them fill a block.
    """
    for start in range(0, bank.size // lanes, BLOCK):
        for c in range(0, count, 4):
            full = c + 4 <= count
            for lane in range(c, min(c + 4, count)):
                full &= late[lane] <= start and start + BLOCK <= late[lane] + rows[lane].size
            if full:
                i, j, k, m = start - late[c], start - late[c + 1], start - late[c + 2], start - late[c + 3]
                one, two, three, four = rows[c][i:], rows[c + 1][j:], rows[c + 2][k:], rows[c + 3][m:]
                turn_four(bank[start * lanes + c :], lanes, one, two, three, four, apart)
                continue
            for lane in range(c, min(c + 4, count)):
                low, high = max(start, late[lane]), min(start + BLOCK, late[lane] + rows[lane].size)
                if low < high:
                    row, column = rows[lane][low - late[lane] : high - late[lane]], bank[low * lanes + lane :]
                    for i in range(row.size):
                        if apart:
                            row[i] = column[i * lanes]
                        else:
                            column[i * lanes] = row[i]


@njit(inline="always", **OPTIONS)
def add_four(w, x, y, z, g, left, right):
    """Add four channels to two, each with its gains to the left and right; each product is rounded, so that a channel and its opposite leave nothing."""
    n = w.size
    wl, wr, xl, xr = splat(EIGHT, g[0]), splat(EIGHT, g[1]), splat(EIGHT, g[2]), splat(EIGHT, g[3])
    yl, yr, zl, zr = splat(EIGHT, g[4]), splat(EIGHT, g[5]), splat(EIGHT, g[6]), splat(EIGHT, g[7])
    for i in range(0, n - NEAR + 1, NEAR):
        a, b, c, d = load(EIGHT, w, i), load(EIGHT, x, i), load(EIGHT, y, i), load(EIGHT, z, i)
        store(left, i, load(EIGHT, left, i) + a * wl + b * xl + c * yl + d * zl)
        store(right, i, load(EIGHT, right, i) + a * wr + b * xr + c * yr + d * zr)
    for i in range(n - n % NEAR, n):
        left[i] = left[i] + w[i] * g[0] + x[i] * g[2] + y[i] * g[4] + z[i] * g[6]
        right[i] = right[i] + w[i] * g[1] + x[i] * g[3] + y[i] * g[5] + z[i] * g[7]


@njit(**OPTIONS)
def place(rows, count, gains, late, outs, anew):
    """Write interleaved stereo sums [flat] of ``count`` of some channels, each with its gains to the left and right of each sum.

    gains [sums, two for each of the rows, as many as there are]: those of rows beyond ``count`` are 0, because four rows go at a time. late: by how many
    samples each sum begins after the channels. anew: whether what the sums hold is forgotten; otherwise it is added to. All sums take a block before the
    next one, so that the channels come from memory once.
    """
    left, right, samples = np.zeros(SUMMED, np.float32), np.zeros(SUMMED, np.float32), rows[0].size
    for start in range(0, samples, SUMMED):
        for k in range(len(outs)):
            first = max(start, late[k])
            last = min(start + SUMMED, samples, late[k] + outs[k].size // 2)
            if first >= last:
                continue
            n, out = last - first, outs[k][2 * (first - late[k]) : 2 * (last - late[k])]
            for i in range(n):
                left[i] = f32(0.0) if anew else out[2 * i]
                right[i] = f32(0.0) if anew else out[2 * i + 1]
            for c in range(0, count, 4):
                w, x, y, z = (
                    rows[c][first:last],
                    rows[c + 1][first:last],
                    rows[c + 2][first:last],
                    rows[c + 3][first:last],
                )
                add_four(w, x, y, z, gains[k, 2 * c : 2 * c + 8], left, right)
            for i in range(0, n - NEAR + 1, NEAR):
                a, b = zipped(load(EIGHT, left, i), load(EIGHT, right, i))
                store(out, 2 * i, a)
                store(out, 2 * i + NEAR, b)
            for i in range(n - n % NEAR, n):
                out[2 * i] = left[i]
                out[2 * i + 1] = right[i]


@njit(**OPTIONS)
def mix_down(stride, bank, lanes, count, gains, out):
    """Add the lanes in use of a bank to another bank, ``out``; gains [count * LANES]: of each into its lanes. Four rows go at a time."""
    L = len(stride)
    rows = out.size // L
    for i in range(0, rows - 3, 4):
        k, m = i * lanes, i * L
        one, two = load(stride, out, m), load(stride, out, m + L)
        three, four = load(stride, out, m + 2 * L), load(stride, out, m + 3 * L)
        for c in range(count):
            gain = load(stride, gains, c * L)
            one = fused(load_one(stride, bank, k + c), gain, one)
            two = fused(load_one(stride, bank, k + lanes + c), gain, two)
            three = fused(load_one(stride, bank, k + 2 * lanes + c), gain, three)
            four = fused(load_one(stride, bank, k + 3 * lanes + c), gain, four)
        store(out, m, one)
        store(out, m + L, two)
        store(out, m + 2 * L, three)
        store(out, m + 3 * L, four)
    for i in range(rows - rows % 4, rows):
        total = load(stride, out, i * L)
        for c in range(count):
            total = fused(load_one(stride, bank, i * lanes + c), load(stride, gains, c * L), total)
        store(out, i * L, total)


@njit(**OPTIONS)
def weighted(stride, x, params, state, loudest, overs, step, filled, power, steps):
    """Meter a bank: largest magnitudes, samples beyond full scale, and the squares of what two sections leave, added up in steps.

    loudest [ceil(samples / BLOCK) * LANES], float32: filled; overs [LANES], float32: raised; step: samples, of which ``filled`` are already in power
    [LANES], float64; steps [LANES each], float64: filled with those that became complete. Returns how many these are.
    """
    L = len(stride)
    a1, a2, b1, b2 = (
        load(stride, state, 0),
        load(stride, state, L),
        load(stride, state, 2 * L),
        load(stride, state, 3 * L),
    )
    zero, one = splat(stride, f32(0.0)), splat(stride, f32(1.0))
    found, done, at, samples = np.zeros(L, np.float32), 0, 0, x.size // L
    loudest[:] = f32(0.0)
    while at < samples:
        block = at // BLOCK
        stop = min(samples, (block + 1) * BLOCK, at + step - filled)
        total, over, most = zero, load(stride, overs, 0), load(stride, loudest, block * L)
        for i in range(at, stop):
            v = load(stride, x, i * L)
            most = larger(most, size(v))
            over = over + where_over(size(v), one, one, zero)
            y, a1, a2 = section(stride, v, a1, a2, params, 0)
            z, b1, b2 = section(stride, y, b1, b2, params, 6 * L)
            total = fused(z, z, total)
        store(overs, 0, over)
        store(loudest, block * L, most)
        store(found, 0, total)
        for c in range(L):
            power[c] += found[c]
        at, filled = stop, filled + stop - at
        if filled == step:
            for c in range(L):
                steps[done * L + c] = power[c]
                power[c] = 0.0
            done, filled = done + 1, 0
    store(state, 0, a1)
    store(state, L, a2)
    store(state, 2 * L, b1)
    store(state, 3 * L, b2)
    flush(state)
    return done


@njit(nogil=True, cache=True, error_model="numpy", fastmath=True)
def true_peaks(bank, lanes, count, loudest, taps, coarse, finer, bound, best):
    """Raise each lane's largest magnitude at and between the samples, but for the first and last half a filter of the bank.

    loudest: the largest magnitudes at the samples, as ``weighted`` gives them; ``best`` is at least as large. Between samples nothing can exceed the
    largest magnitude within the filter times ``bound``, the largest sum of the taps' magnitudes, so most places need no look. Each ``coarse``-th phase is
    looked at first, the others only where what those say, times ``finer``, may be more than the best.
    """
    length = taps.shape[1]
    half = length // 2
    n = bank.size // lanes
    blocks = loudest.size // lanes
    part, found = np.zeros(BLOCK + 2 * half + NEAR, np.float32), np.zeros(NEAR, np.float32)
    for block in range(blocks):
        start, stop = max(block * BLOCK, half), min((block + 1) * BLOCK, n - half)
        for c in range(count):
            most = loudest[block * lanes + c]
            if block > 0:
                most = max(most, loudest[(block - 1) * lanes + c])
            if block + 1 < blocks:
                most = max(most, loudest[(block + 1) * lanes + c])
            if start >= stop or most * bound <= best[c]:
                continue
            for k in range(stop - start + 2 * half):
                part[k] = bank[(start - half + k) * lanes + c]
            for first in range(half, stop - start + half, NEAR):
                last = min(first + NEAR, stop - start + half)
                most = f32(0.0)
                for k in range(first + 1 - half, last + half):
                    most = max(most, abs(part[k]))
                if most * bound <= best[c]:
                    continue
                found[:] = f32(0.0)
                for rank in range(2):
                    for phase in range(taps.shape[0]):
                        if ((phase + 1) % coarse == 0) != (rank == 0):
                            continue
                        total = splat(EIGHT, f32(0.0))
                        for k in range(length):
                            total = fused(splat(EIGHT, taps[phase, k]), load(EIGHT, part, first + 1 - half + k), total)
                        store(found, 0, larger(load(EIGHT, found, 0), size(total)))
                    most = f32(0.0)
                    for i in range(last - first):
                        most = max(most, found[i])
                    if most * finer <= best[c]:
                        break
                best[c] = max(best[c], most)


@njit(inline="always", **OPTIONS)
def pack_24(steps, lanes, channels, rows, out, size, place):
    """Write rows of whole numbers as files of ``size`` bytes one after the other, from a place in each on: four values at a time.

    Where the rows are no multiple of four, what follows them is written too.
    """
    for lane in range(0, lanes, 4):
        at = lane // channels * size + 3 * place * channels
        for i in range(0, rows, 4):
            k = i * lanes + lane
            a, b = load(FOUR, steps, k), load(FOUR, steps, k + lanes)
            c, d = load(FOUR, steps, k + 2 * lanes), load(FOUR, steps, k + 3 * lanes)
            if channels == 1:
                a, b, c, d = turned(a, b, c, d)
                store_24(out, at + 3 * i, a)
                store_24(out, at + 3 * i + size, b)
                store_24(out, at + 3 * i + 2 * size, c)
                store_24(out, at + 3 * i + 3 * size, d)
            else:
                (a, b), (c, d) = paired(a, b), paired(c, d)
                store_24(out, at + 6 * i, a)
                store_24(out, at + 6 * i + 12, c)
                store_24(out, at + 6 * i + size, b)
                store_24(out, at + 6 * i + size + 12, d)


@njit(**OPTIONS)
def dither_24(bank, lanes, channels, place, seeds, out, size):
    """Write files of a bank, one or two lanes each, as interleaved 24-bit little-endian integers with triangular dither of one step.

    seeds [files, uint32]: of as many as the bank has room for; out: ``size`` bytes for each, which are SPARE_BYTES more than its samples take. The noise
    of a sample is a function of its place in the file and the file's seed.
    """
    samples = bank.size // lanes
    steps, base = np.zeros(BLOCK * lanes, np.float32), np.zeros(BLOCK * lanes, np.uint32)
    for i in range(BLOCK):
        for c in range(lanes):
            base[i * lanes + c] = seeds[c // channels] + u32(i * channels + c % channels)
    numbers, padded = base.view(f32), np.zeros(BLOCK * lanes, np.float32)
    zero, one, half = splat(EIGHT, f32(0.0)), splat(EIGHT, f32(1.0)), splat(EIGHT, f32(0.5))
    full = splat(EIGHT, f32(8388608.0))
    lowest, highest = splat(EIGHT, f32(-8388608.0)), splat(EIGHT, f32(8388607.0))
    for start in range(0, samples, BLOCK):
        rows = min(BLOCK, samples - start)
        part = bank[start * lanes :]
        if rows < BLOCK:
            padded[: rows * lanes] = part
            part = padded
        late = u32((place + start) * channels)
        for k in range(0, rows * lanes, len(EIGHT)):
            level = smaller(larger(load(EIGHT, part, k), zero - one), one) * full + triangular(
                load(EIGHT, numbers, k), late
            )
            store_wholes(steps, k, smaller(larger(rounded_down(level + half), lowest), highest))
        pack_24(steps, lanes, channels, rows, out, size, start)


@njit(nogil=True, cache=True, error_model="numpy", fastmath=True)
def peaks_between(channel, taps, coarse, near, least, out):
    """Raise ``out`` to the largest magnitude between each sample and the next.

    taps [shape=(phases, length)]: interpolation filters of the phases after the sample itself. Places where no sample within
    the filter reaches ``least`` keep the sample's own magnitude; where no ``coarse``-th phase reaches ``near``, the others are not looked at.
    """
    length = taps.shape[1]
    half = length // 2
    n = channel.size
    quiet_until = -1
    for i in range(n):
        out[i] = max(out[i], abs(channel[i]))
        if i > quiet_until:
            loudest = -1
            for j in range(max(i - half, 0), min(i + 4 * half, n)):
                loudest = j if abs(channel[j]) >= least else loudest
                if loudest >= 0:
                    break
            if loudest < 0:
                quiet_until = i + 3 * half
        if i <= quiet_until or i < half or i + half >= n:
            continue
        most = abs(channel[i])
        for rank in range(2):
            for phase in range(taps.shape[0]):
                if ((phase + 1) % coarse == 0) != (rank == 0):
                    continue
                total = f32(0.0)
                for k in range(length):
                    total += taps[phase, k] * channel[i - half + 1 + k]
                most = max(most, abs(total))
            if most < near:
                break
        out[i] = max(out[i], most)


@njit(nogil=True, cache=True, error_model="numpy", fastmath=True)
def add_delayed(out, track, late, first, second):
    """Add a track later by ``late`` samples, and once more a sample after that."""
    n = out.size - late
    if n > 0:
        out[late] += first * track[0]
    for i in range(1, n):
        out[late + i] += first * track[i] + second * track[i - 1]


@njit(nogil=True, cache=True, error_model="numpy", fastmath=True)
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


BANKS = {
    width: SimpleNamespace(**{kernel.__name__: partial(kernel, (None,) * width) for kernel in some})
    for widths, some in (
        (WIDTHS, (svf_cascade, band_powers, gate, shaper, compressor, chain, mix_down, weighted)),
        ((PAIR,), (linked,)),
    )
    for width in widths
}
