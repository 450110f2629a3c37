"""The compiled loop of bands that move with a level. Private and unchecked: see ``tone``."""

import numpy as np
from numba import njit

from arkund.core.dsp._arithmetic import brought_back, even, flush, lanes_exp2, lanes_log2
from arkund.core.dsp._moving import states
from arkund.core.dsp.compiled import BLOCK, FLAT, FLOOR, HALF_DB_PER_OCTAVE, OPTIONS, f32, made_for
from arkund.core.dsp.lanes import fused, larger, load, smaller, splat, store, swapped, tiled, where_over


@njit(inline="always", **OPTIONS)
def swaying_block(stride, x, key, rows, params, state, one, two):
    """Filter rows in place, with two buffers to work in: see ``swaying``."""
    L = len(stride)
    k1, k2 = load(stride, state, 2 * L), load(stride, state, 3 * L)
    d0, d1, d2 = load(stride, params, 7 * L), load(stride, params, 8 * L), load(stride, params, 9 * L)
    across, link = load(stride, params, 10 * L), load(stride, params, 16 * L)
    for i in range(rows):
        heard = load(stride, key, i * L)
        v1, v2, k1, k2 = states(stride, heard, k1, k2, params, 0)
        along = fused(d0, heard, fused(d1, v1, d2 * v2))
        power = fused(along, along, across * v2 * (across * v2))
        store(one, i * L, larger(power, link * swapped(power)))
    zero, floor = splat(FLAT, f32(0.0)), splat(FLAT, FLOOR * FLOOR)
    threshold, most = tiled(FLAT, load(stride, params, 11 * L)), tiled(FLAT, load(stride, params, 12 * L))
    for at in range(0, rows * L, len(FLAT)):
        level = lanes_log2(FLAT, load(FLAT, one, at) + floor) * splat(FLAT, HALF_DB_PER_OCTAVE)
        store(one, at, smaller(larger(level - threshold, zero), most))
    attack, release, now = load(stride, params, 14 * L), load(stride, params, 15 * L), load(stride, state, 4 * L)
    for i in range(rows):
        wanted = load(stride, one, i * L)
        now = fused(where_over(wanted, now, attack, release), wanted - now, now)
        store(one, i * L, now)
    per_db, full = tiled(FLAT, load(stride, params, 13 * L)), splat(FLAT, f32(1.0))
    for at in range(0, rows * L, len(FLAT)):
        root = lanes_exp2(FLAT, load(FLAT, one, at) * per_db)
        store(one, at, root * root - full)
        store(two, at, root - full)
    s1, s2 = load(stride, state, 0), load(stride, state, L)
    m0, m1, m2 = load(stride, params, 3 * L), load(stride, params, 4 * L), load(stride, params, 5 * L)
    of_root = load(stride, params, 6 * L)
    for i in range(rows):
        v0 = load(stride, x, i * L)
        v1, v2, s1, s2 = states(stride, v0, s1, s2, params, 0)
        moved = fused(m0, v0, fused(m1, v1, m2 * v2))
        store(x, i * L, fused(load(stride, one, i * L), moved, fused(load(stride, two, i * L), of_root * v1, v0)))
    store(state, 0, s1)
    store(state, L, s2)
    store(state, 2 * L, k1)
    store(state, 3 * L, k2)
    store(state, 4 * L, where_over(now, splat(stride, f32(1e-12)), now, splat(stride, f32(0.0))))


@njit(**OPTIONS)
def swaying(stride, x, key, params, state):
    """Filter a bank in place with one band a lane, whose gain follows the level of what its key, which may be a copy of the bank, holds in that band.

    params rows: 0 to 2 coefficients, 3 to 5 what of the input, of the band and below it moves with the gain, 6 of the band with its root, 7 to 9 the same of
    the key that is heard, 10 what lies across it (a quarter of a period away, so that a steady tone has a steady level), 11 threshold [dB], 12 furthest
    move [dB, positive], 13 octaves of the gain's root for each dB moved, 14 and 15 the share of the way that attack and release go in a sample, 16 share of
    the neighbouring lane's level that is heard. state rows: 0 and 1 of the signal's filter, 2 and 3 of the key's, 4 how far it has moved [dB].
    """
    values = BLOCK * len(stride)
    one, two = np.zeros(values, np.float32), np.zeros(values, np.float32)
    spare, other = np.zeros(values, np.float32), np.zeros(values, np.float32)
    for start in range(0, x.size, values):
        part = x[start : start + values]
        worked, heard = even(part, spare), even(key[start : start + values], other)
        swaying_block(stride, worked, heard, part.size // len(stride), params, state, one, two)
        brought_back(part, worked)
        flush(state)


BANKS = made_for(swaying)
