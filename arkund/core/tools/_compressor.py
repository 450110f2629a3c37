"""The compressor's compiled loop. Private and unchecked: see ``compressor``."""

import numpy as np
from numba import njit

from arkund.core.dsp._arithmetic import brought_back, even, lanes_exp2, lanes_log2
from arkund.core.dsp.compiled import BLOCK, DB_PER_OCTAVE, FLAT, FLOOR, OCTAVE_PER_DB, OPTIONS, f32, made_for
from arkund.core.dsp.lanes import (
    fused,
    inverse,
    larger,
    load,
    root,
    size,
    smaller,
    splat,
    store,
    swapped,
    tiled,
    where_over,
)


@njit(inline="always", **OPTIONS)
def reduction_db(stride, level, threshold, slope, knee, reach, share):
    """Return what the static curve takes from magnitudes, in dB: quadratic within the knee; reach: half of it, share: 1 / (2 knee)."""
    zero = splat(stride, f32(0.0))
    over = fused(lanes_log2(stride, level + splat(stride, FLOOR)), splat(stride, DB_PER_OCTAVE), zero - threshold)
    inside = over + reach
    soft = where_over(inside, zero, inside * inside * share, zero)
    return where_over(inside, knee, over, soft) * slope


@njit(inline="always", **OPTIONS)
def levels_block(stride, key, level, rows, averages, params, state):
    """Write the magnitudes of a key's rows, or where a lane averages its squares, their root: see ``compressor``."""
    L = len(stride)
    if not averages:
        for at in range(0, rows * L, len(FLAT)):
            store(level, at, size(load(FLAT, key, at)))
        return
    step, mean = load(stride, params, 10 * L), load(stride, state, L)
    zero, tiny = splat(stride, f32(0.0)), splat(stride, f32(1e-20))
    for i in range(rows):
        v = load(stride, key, i * L)
        mean = fused(step, v * v - mean, mean)
        store(level, i * L, where_over(step, zero, root(larger(mean, zero)), size(v)))
    store(state, L, where_over(mean, tiny, mean, zero))


@njit(inline="always", **OPTIONS)
def follow_block(stride, gain, rows, lingers, params, state):
    """Follow wanted reductions with attack and release, in place. Where a lane's release goes by itself, a second follower is charged by what lasts and
    goes more slowly; the larger of both counts.
    """
    L = len(stride)
    attack, release = load(stride, params, 3 * L), load(stride, params, 4 * L)
    zero, tiny, now = splat(stride, f32(0.0)), splat(stride, f32(1e-12)), load(stride, state, 0)
    if not lingers:
        for i in range(rows):
            wanted = load(stride, gain, i * L)
            now = fused(where_over(wanted, now, attack, release), wanted - now, now)
            store(gain, i * L, now)
        store(state, 0, where_over(now, tiny, now, zero))
        return
    charge, slow, mine = load(stride, params, 11 * L), load(stride, params, 12 * L), load(stride, params, 13 * L)
    kept = load(stride, state, 2 * L)
    for i in range(rows):
        wanted = load(stride, gain, i * L)
        now = fused(where_over(wanted, now, attack, release), wanted - now, now)
        kept = fused(where_over(wanted, kept, charge, slow), wanted - kept, kept)
        store(gain, i * L, where_over(mine, zero, larger(now, kept), now))
    store(state, 0, where_over(now, tiny, now, zero))
    store(state, 2 * L, where_over(kept, tiny, kept, zero))


@njit(inline="always", **OPTIONS)
def compressor_block(stride, x, key, gain, rows, averages, lingers, params, state):
    """Multiply rows by the compressor's gain for each row of the key: see ``compressor``."""
    L = len(stride)
    half, two, floor = splat(FLAT, f32(0.5)), splat(FLAT, f32(2.0)), splat(FLAT, FLOOR)
    threshold, slope = tiled(FLAT, load(stride, params, 0)), tiled(FLAT, load(stride, params, L))
    knee, makeup = tiled(FLAT, load(stride, params, 2 * L)), tiled(FLAT, load(stride, params, 5 * L))
    reach, share = half * knee, inverse(fused(two, knee, floor))
    link, furthest = tiled(FLAT, load(stride, params, 8 * L)), tiled(FLAT, load(stride, params, 9 * L))
    levels_block(stride, key, gain, rows, averages, params, state)
    for at in range(0, rows * L, len(FLAT)):
        level = load(FLAT, gain, at)
        level = larger(level, link * swapped(level))
        store(gain, at, smaller(reduction_db(FLAT, level, threshold, slope, knee, reach, share), furthest))
    follow_block(stride, gain, rows, lingers, params, state)
    per_db, wet, dry = splat(FLAT, OCTAVE_PER_DB), load(stride, params, 6 * L), load(stride, params, 7 * L)
    wet, dry = tiled(FLAT, wet), tiled(FLAT, dry)
    for at in range(0, rows * L, len(FLAT)):
        made = wet * lanes_exp2(FLAT, (makeup - load(FLAT, gain, at)) * per_db) + dry
        store(x, at, load(FLAT, x, at) * made)


@njit(**OPTIONS)
def compressor(stride, x, key, averages, lingers, params, state):
    """Multiply a bank in place by the compressor's gain for each sample of its key, which may be the bank itself.

    Static curve with quadratic knee, then attack and release on the reduction in dB (Giannoulis, Massberg and
    Reiss, J. Audio Eng. Soc. 60 (2012), eqs. 4 and 17). params rows: 0 threshold [dB], 1 slope 1 - 1/R,
    2 knee [dB], 3 and 4 the share of the way that attack and release go in a sample, 5 make-up [dB], 6 and 7 shares of the compressed and the dry sound,
    8 share of the neighbouring lane's level that is heard, 9 largest reduction [dB], 10 the share of the way that the mean of squares goes in a sample, 0
    where the peak counts, 11 and 12 the same of the second follower up and down, 13 above 0 where that counts. state rows: 0 reduction [dB], 1 mean of
    squares, 2 what the second follower has [dB]. averages, lingers : whether any lane does.
    """
    values = BLOCK * len(stride)
    made, spare, other = np.zeros(values, np.float32), np.zeros(values, np.float32), np.zeros(values, np.float32)
    for start in range(0, x.size, values):
        part = x[start : start + values]
        worked, heard = even(part, spare), even(key[start : start + values], other)
        compressor_block(stride, worked, heard, made, part.size // len(stride), averages, lingers, params, state)
        brought_back(part, worked)


BANKS = made_for(compressor)
