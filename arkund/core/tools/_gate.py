"""The gate's compiled loop. Private and unchecked: see ``gate``."""

import numpy as np
from numba import njit

from arkund.core.dsp._arithmetic import brought_back, even, lanes_exp2
from arkund.core.dsp.compiled import BLOCK, FLAT, FLOOR, OPTIONS, f32, made_for
from arkund.core.dsp.lanes import fused, larger, load, size, smaller, splat, store, swapped, where_over


@njit(inline="always", **OPTIONS)
def gate_block(stride, x, key, gain, rows, params, state):
    """Multiply rows by the gate's gain for each row of the key: see ``gate``."""
    L = len(stride)
    zero, one = splat(stride, f32(0.0)), splat(stride, f32(1.0))
    floor, half, least = splat(stride, FLOOR), splat(stride, f32(0.5)), splat(stride, f32(-1e-7))
    opens, closes = load(stride, params, 0), load(stride, params, L)
    attack, release = load(stride, params, 2 * L), load(stride, params, 3 * L)
    hold, closed = load(stride, params, 4 * L), load(stride, params, 5 * L)
    key_release, longest, link = load(stride, params, 6 * L), load(stride, params, 7 * L), load(stride, params, 8 * L)
    env, was, left = load(stride, state, 0), load(stride, state, L), load(stride, state, 2 * L)
    now, lingered = load(stride, state, 3 * L), load(stride, state, 4 * L)
    for i in range(rows):
        level = size(load(stride, key, i * L))
        env = larger(larger(larger(level, link * swapped(level)), floor), env * key_release)
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
    for at in range(0, rows * L, len(FLAT)):
        store(x, at, load(FLAT, x, at) * lanes_exp2(FLAT, load(FLAT, gain, at)))


@njit(**OPTIONS)
def gate(stride, x, key, params, state):
    """Multiply a bank in place by the gate's gain for each sample of its key.

    params rows: 0 open level, 1 close level, 2 attack coefficient, 3 release coefficient, 4 hold [samples], 5 closed gain [octaves], 6 coefficient of the
    key's release, 7 longest stay between the two levels [samples], 8 share of the neighbouring lane's level that is heard.
    state rows: 0 key envelope, 1 open, 2 hold left, 3 gain [octaves], 4 lingered.
    """
    values = BLOCK * len(stride)
    made, spare = np.zeros(values, np.float32), np.zeros(values, np.float32)
    for start in range(0, x.size, values):
        part = x[start : start + values]
        worked = even(part, spare)
        gate_block(stride, worked, key[start : start + values], made, part.size // len(stride), params, state)
        brought_back(part, worked)


BANKS = made_for(gate)
