"""The gate's compiled loop. Private and unchecked: see ``gate``."""

import numpy as np
from numba import njit

from arkund.core.dsp._arithmetic import brought_back, even, lanes_exp2, lanes_log2
from arkund.core.dsp.compiled import BLOCK, FLAT, FLOOR, OPTIONS, f32, made_for
from arkund.core.dsp.lanes import fused, larger, load, size, smaller, splat, store, swapped, where_over


@njit(inline="always", **OPTIONS)
def gate_block(stride, x, key, gain, rows, expands, params, state):
    """Multiply rows by the gate's gain for each row of the key: see ``gate``."""
    L = len(stride)
    zero, one = splat(stride, f32(0.0)), splat(stride, f32(1.0))
    floor, half, least = splat(stride, FLOOR), splat(stride, f32(0.5)), splat(stride, f32(-1e-7))
    opens, closes = load(stride, params, 0), load(stride, params, L)
    attack, release = load(stride, params, 2 * L), load(stride, params, 3 * L)
    hold, closed = load(stride, params, 4 * L), load(stride, params, 5 * L)
    key_release, longest, link = load(stride, params, 6 * L), load(stride, params, 7 * L), load(stride, params, 8 * L)
    steeper, ducks, step = load(stride, params, 9 * L), load(stride, params, 10 * L), load(stride, params, 11 * L)
    env, left, now = load(stride, state, 0), load(stride, state, L), load(stride, state, 2 * L)
    lingered, bridge = load(stride, state, 3 * L), load(stride, state, 4 * L)
    between = load(stride, params, 12 * L)
    for i in range(rows):
        level = size(load(stride, key, i * L))
        env = larger(larger(larger(level, link * swapped(level)), floor), env * key_release)
        above = where_over(env, opens, one, zero)
        below = where_over(closes, env, one, zero)
        lingered = (lingered + one) * (one - above)
        too_long = where_over(lingered, longest, one, zero)
        # What is open, or was within half a period of a low ring, stays so above the lower level.
        is_open = larger(above, where_over(bridge, half, one - larger(below, too_long), zero))
        bridge = larger(bridge - one, between * is_open)
        left = larger(left - one, hold * is_open)  # which is never below 0
        shut = closed
        if expands:
            under = larger(lanes_log2(stride, opens) - lanes_log2(stride, env), zero)
            shut = where_over(steeper, zero, larger(closed, zero - under * steeper), closed)
        opened = larger(is_open, smaller(left, one))
        target = where_over(opened, half, zero, shut)
        target = where_over(ducks, half, where_over(opened, half, closed, zero), target)
        up, down = where_over(ducks, half, release, attack), where_over(ducks, half, attack, release)
        k = where_over(target, now, up, down)
        # It goes back by a share of what is left, or a gate by the same step each time.
        straight = where_over(target, now, zero, where_over(ducks, half, zero, step))
        now = where_over(straight, zero, larger(now - step, target), fused(now - target, k, target))
        now = where_over(least, now, now, zero)
        store(gain, i * L, now)
    store(state, 0, env)
    store(state, L, left)
    store(state, 2 * L, now)
    store(state, 3 * L, lingered)
    store(state, 4 * L, bridge)
    for at in range(0, rows * L, len(FLAT)):
        store(x, at, load(FLAT, x, at) * lanes_exp2(FLAT, load(FLAT, gain, at)))


@njit(**OPTIONS)
def gate(stride, x, key, expands, params, state):
    """Multiply a bank in place by the gate's gain for each sample of its key.

    params rows: 0 open level, 1 close level, 2 attack coefficient, 3 release coefficient, 4 hold [samples], 5 closed gain [octaves], 6 coefficient of the
    key's release, 7 longest stay below the upper level [samples], 8 share of the neighbouring lane's level that is heard, 9 ratio less one (0: closed at
    once), 10 whether it closes where it would open, 11 octaves by which it falls with each sample (0: by the release's share), 12 time between two peaks of a
    low ring [samples]. expands : whether any lane's ratio counts.
    state rows: 0 key envelope, 1 hold left, 2 gain [octaves], 3 samples since the upper level was passed, 4 how long a next peak is waited for [samples].
    """
    values = BLOCK * len(stride)
    made, spare = np.zeros(values, np.float32), np.zeros(values, np.float32)
    for start in range(0, x.size, values):
        part = x[start : start + values]
        worked = even(part, spare)
        gate_block(stride, worked, key[start : start + values], made, part.size // len(stride), expands, params, state)
        brought_back(part, worked)


BANKS = made_for(gate)
