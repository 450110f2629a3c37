"""The shaper's compiled loop. Private and unchecked: see ``shaper``."""

import numpy as np
from numba import njit

from arkund.core.dsp._arithmetic import brought_back, even, flush, lanes_exp2
from arkund.core.dsp._moving import states
from arkund.core.dsp.compiled import BLOCK, FLAT, FLOOR, OPTIONS, f32, made_for
from arkund.core.dsp.lanes import fused, inverse, larger, load, size, smaller, splat, store, swapped, tiled, where_over


@njit(inline="always", **OPTIONS)
def shaper_block(stride, x, heard, rows, depth, params, state, one, two):
    """Shape rows in place by what is heard, with two buffers to work in: see ``shaper``."""
    L = len(stride)
    dull, release, slow = load(stride, params, 0), load(stride, params, L), load(stride, params, 2 * L)
    floor = larger(load(stride, params, 3 * L), splat(stride, FLOOR))  # lanes that nobody uses have none
    step, onset, link = load(stride, params, 4 * L), load(stride, params, 5 * L), load(stride, params, 11 * L)
    low, env, rest = load(stride, state, 0), load(stride, state, L), load(stride, state, 2 * L)
    left, stroke = load(stride, state, 3 * L), load(stride, state, 4 * L)
    for i in range(rows):
        now = load(stride, heard, i * L)
        low = fused(low - now, dull, now)
        bright = size(now - low)
        env = larger(larger(bright, link * swapped(bright)) + floor, env * release)
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
        gain = lanes_exp2(FLAT, fused(attack - sustain, load(FLAT, one, at), sustain))
        store(x, at, load(FLAT, x, at) * gain)
    for c in range(depth):
        shelf(stride, x, rows, params[(12 + 10 * c) * L :], state[(5 + 4 * c) * L :], one, two)


@njit(inline="always", **OPTIONS)
def shelf(stride, x, rows, params, state, shares, roots):
    """Give what lies below a frequency another gain than what lies above it, by the share of the attack at each row."""
    L = len(stride)
    attack, sustain = tiled(FLAT, load(stride, params, 8 * L)), tiled(FLAT, load(stride, params, 9 * L))
    for at in range(0, rows * L, len(FLAT)):
        store(roots, at, lanes_exp2(FLAT, fused(attack - sustain, load(FLAT, shares, at), sustain)))
    s1, s2, t1, t2 = (
        load(stride, state, 0),
        load(stride, state, L),
        load(stride, state, 2 * L),
        load(stride, state, 3 * L),
    )
    one, two, full = load(stride, params, 3 * L), load(stride, params, 7 * L), splat(stride, f32(1.0))
    for i in range(rows):
        now, root = load(stride, x, i * L), load(stride, roots, i * L)
        more, most = root - full, root * root - full
        v1, v2, s1, s2 = states(stride, now, s1, s2, params, 0)
        now = fused(most, v2, fused(one * more, v1, now))
        v1, v2, t1, t2 = states(stride, now, t1, t2, params, 4 * L)
        store(x, i * L, fused(most, v2, fused(two * more, v1, now)))
    store(state, 0, s1)
    store(state, L, s2)
    store(state, 2 * L, t1)
    store(state, 3 * L, t2)


@njit(**OPTIONS)
def shaper(stride, x, heard, depth, params, state):
    """Shape transients in place: one gain for a stroke's attack, another for what follows, and others below some frequencies.

    heard : what the detector listens to, as many rows; ``x`` itself where it listens to its own

    An onset is where the envelope of what is bright stands well above what it was milliseconds ago, by its ratio, so that the result does not depend on level.
    params rows: 0 coefficient of the low-pass that is taken from the key, 1 release of its envelope, 2 how slowly the past follows it, 3 floor, 4 how far the
    attack's gain falls in a sample, 5 coefficient of its rise, 6 where it falls from (above 1: it is held), 7 ratio at which an onset begins, 8 steepness
    from there to a full one, 9 attack and 10 sustain [octaves], 11 share of the neighbouring lane's envelope that is heard; then ten for each of
    ``depth`` frequencies: coefficients and damping of both sections of its shelf, and by how much attack and sustain are larger below it [octaves of the
    fourth root of the gain].
    state rows: 0 low-passed, 1 envelope, 2 its past, 3 left of the attack, 4 share of it; then four for each frequency.
    """
    values = BLOCK * len(stride)
    one, two, spare = np.zeros(values, np.float32), np.zeros(values, np.float32), np.zeros(values, np.float32)
    for start in range(0, x.size, values):
        part = x[start : start + values]
        worked = even(part, spare)
        shaper_block(
            stride, worked, heard[start : start + values], part.size // len(stride), depth, params, state, one, two
        )
        brought_back(part, worked)
        if depth:
            flush(state)


BANKS = made_for(shaper)
