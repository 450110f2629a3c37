"""The compiled loop of a space: diffusers and a feedback delay network of sixteen lines, side by side. Private and unchecked: see ``space``."""

import numpy as np
from numba import njit

from arkund.core.dsp.compiled import FLAT, OPTIONS, f32, room
from arkund.core.dsp.lanes import (
    exchanged_2,
    exchanged_4,
    exchanged_8,
    fused,
    load,
    load_one,
    rows_of_square,
    splat,
    square_of_rows,
    store,
    swapped,
    where_over,
)
from arkund.core.dsp.lanes import size as size_of

LINES = len(FLAT)
STEP = 64  # samples that are worked on at a time; no line is shorter
TINY = f32(1e-20)
HALVES = np.repeat(np.array([1.0, 0.0, 0.0, 1.0], np.float32), LINES // 2)
SIGNS = np.array([-1.0 if lane & bit else 1.0 for bit in (8, 4, 2, 1) for lane in range(LINES)], np.float32)


@njit(**OPTIONS)
def delayed(bank, lanes, lane, line, at, out):
    """Write a lane of a bank later, by the length of a line; returns where the line goes on."""
    if line.size == 0:
        for i in range(out.size):
            out[i] = bank[i * lanes + lane]
        return at
    for i in range(out.size):
        out[i] = line[at]
        line[at] = bank[i * lanes + lane]
        at = at + 1 if at + 1 < line.size else 0
    return at


@njit(**OPTIONS)
def diffused(x, line, at, amount):
    """Take a signal through an all-pass of one delay in place (M. R. Schroeder, 1962); returns where its line goes on. No line is shorter than LINES."""
    tiny, silent, by, i = splat(FLAT, TINY), splat(FLAT, f32(0.0)), splat(FLAT, amount), 0
    while i < x.size:
        if i + LINES <= x.size and at + LINES <= line.size:
            behind = load(FLAT, line, at)
            now = load(FLAT, x, i) - by * behind
            store(line, at, where_over(size_of(now), tiny, now, silent))
            store(x, i, behind + by * load(FLAT, line, at))
            i, at = i + LINES, at + LINES
        else:
            one = line[at]
            last = x[i] - amount * one
            line[at] = last if abs(last) > TINY else f32(0.0)
            x[i] = one + amount * line[at]
            i, at = i + 1, at + 1
        at = at if at < line.size else 0
    return at


@njit(**OPTIONS)
def network(left, right, lines, places, params, state, bank, lanes, lane, sides, dry, wet, own, other):
    """Take signals through the network.

    left, right : what comes into the lines; lines : those of all, flat, each as long as the others, written from left to right; places : where each is read and
    where each is written next, int64 [2 * LINES]; before they run over, all is moved to their beginning; params : rows of LINES values: 0 and 1 what it takes
    of left and right, 2 and 3 what it gives to left and right, 4 gain, 5 and 6 of a first-order shelf that damps lows (its direct share and its pole), 7 and 8
    of one that damps highs; state : rows of LINES values, the two shelves; bank : lanes that are to hold so much of what they hold (``dry``) and so much of
    the room (``wet``), one lane or two, ``sides``; own, other : how much of what comes in from its own side and from the other one is heard at once
    """
    size, last = lines.size // LINES, places[LINES:]
    block, given_out = room(STEP * LINES), room(STEP * LINES)
    left_in, right_in = load(FLAT, params, 0), load(FLAT, params, LINES)
    left_out, right_out = load(FLAT, params, 2 * LINES), load(FLAT, params, 3 * LINES)
    gain, tiny, silent = load(FLAT, params, 4 * LINES), splat(FLAT, TINY), splat(FLAT, f32(0.0))
    low_by, low_pole = load(FLAT, params, 5 * LINES), load(FLAT, params, 6 * LINES)
    high_by, high_pole = load(FLAT, params, 7 * LINES), load(FLAT, params, 8 * LINES)
    low, high, quarter = load(FLAT, state, 0), load(FLAT, state, LINES), splat(FLAT, f32(0.25))
    for start in range(0, left.size, STEP):
        rows = min(STEP, left.size - start)
        if last[0] + STEP > size:
            rewound(lines, places)
        # Whole squares, also where fewer rows are left: what lies beyond is written anew before it is read.
        for on in range(0, rows, LINES):
            rows_of_square(lines, places, on, block, on * LINES)
        for i in range(rows):
            # Two shelves: what a one-pole low-pass leaves is weighed apart from the rest.
            now = load(FLAT, block, i * LINES) * gain
            low = fused(low_pole, low - now, now)
            now = fused(low_by, low, now)
            high = fused(high_pole, high - now, now)
            now = fused(high_by, now - high, now)
            to_left, to_right = now * left_out, now * right_out
            both = fused(
                load(FLAT, HALVES, 0),
                to_left + exchanged_8(to_left),
                load(FLAT, HALVES, LINES) * (to_right + exchanged_8(to_right)),
            )
            both = both + exchanged_4(both)
            both = both + exchanged_2(both)
            store(given_out, i * LINES, both + swapped(both))
            # Hadamard's matrix, by butterflies: the later of two lanes is taken away, the earlier added.
            now = now * quarter
            now = fused(now, load(FLAT, SIGNS, 0), exchanged_8(now))
            now = fused(now, load(FLAT, SIGNS, LINES), exchanged_4(now))
            now = fused(now, load(FLAT, SIGNS, 2 * LINES), exchanged_2(now))
            now = fused(now, load(FLAT, SIGNS, 3 * LINES), swapped(now))
            at = start + i
            now = fused(load_one(FLAT, left, at), left_in, fused(load_one(FLAT, right, at), right_in, now))
            store(block, i * LINES, where_over(size_of(now), tiny, now, silent))
        for on in range(0, rows, LINES):
            square_of_rows(block, on * LINES, lines, last, on)
        for k in range(2 * LINES):
            places[k] += rows
        for i in range(rows):
            at = (start + i) * lanes + lane
            first = own * left[start + i] + other * right[start + i]
            bank[at] = wet * (given_out[i * LINES] + first) + dry * bank[at]
            if sides == 2:
                first = own * right[start + i] + other * left[start + i]
                bank[at + 1] = wet * (given_out[i * LINES + LINES // 2] + first) + dry * bank[at + 1]
    store(state, 0, low)
    store(state, LINES, high)
    for i in range(2 * LINES):
        state[i] = state[i] if abs(state[i]) > TINY else f32(0.0)


@njit(**OPTIONS)
def rewound(lines, places):
    """Move what is still to be read to the beginning of the lines."""
    size, back = lines.size // LINES, places[0]
    for k in range(LINES):
        back = min(back, places[k] - k * size)
    for k in range(LINES):
        for at in range(k * size, places[LINES + k] - back):
            lines[at] = lines[at + back]
    for k in range(2 * LINES):
        places[k] -= back
