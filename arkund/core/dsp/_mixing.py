"""Compiled copies between channels and banks, and sums. Private and unchecked: see ``bank`` and ``mixing``."""

import numpy as np
from numba import njit

from arkund.core.dsp.compiled import BLOCK, FLAT, FOUR, OPTIONS, SUMMED, f32, made_for
from arkund.core.dsp.lanes import load, load_one, splat, store, turned, where_over


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
    wl, wr, xl, xr = splat(FLAT, g[0]), splat(FLAT, g[1]), splat(FLAT, g[2]), splat(FLAT, g[3])
    yl, yr, zl, zr = splat(FLAT, g[4]), splat(FLAT, g[5]), splat(FLAT, g[6]), splat(FLAT, g[7])
    for i in range(0, n - len(FLAT) + 1, len(FLAT)):
        a, b, c, d = load(FLAT, w, i), load(FLAT, x, i), load(FLAT, y, i), load(FLAT, z, i)
        store(left, i, load(FLAT, left, i) + a * wl + b * xl + c * yl + d * zl)
        store(right, i, load(FLAT, right, i) + a * wr + b * xr + c * yr + d * zr)
    for i in range(n - n % len(FLAT), n):
        left[i] = left[i] + w[i] * g[0] + x[i] * g[2] + y[i] * g[4] + z[i] * g[6]
        right[i] = right[i] + w[i] * g[1] + x[i] * g[3] + y[i] * g[5] + z[i] * g[7]


@njit(**OPTIONS)
def place(rows, count, gains, late, outs, anew):
    """Write a few stereo sums [each shape=(2, samples)] of ``count`` of some channels, each with its gains to the left and right of each sum.

    gains [sums, two for each of the rows]: those of rows beyond ``count`` are 0, because four rows go at a time. late [sums]: by how many samples each sum
    begins after the channels (before them where it is negative). anew [sums]: whether what the sum holds there is forgotten; otherwise it is added to. All
    sums take a block before the next one, so that the channels come from memory once.
    """
    for start in range(0, rows[0].size, SUMMED):
        for k in range(len(outs)):
            first = max(start, late[k])
            last = min(start + SUMMED, rows[0].size, late[k] + outs[k].shape[1])
            if first >= last:
                continue
            left = outs[k][0, first - late[k] : last - late[k]]
            right = outs[k][1, first - late[k] : last - late[k]]
            if anew[k]:
                for i in range(left.size):
                    left[i] = f32(0.0)
                    right[i] = f32(0.0)
            for c in range(0, count, 4):
                w, x = rows[c][first:last], rows[c + 1][first:last]
                y, z = rows[c + 2][first:last], rows[c + 3][first:last]
                add_four(w, x, y, z, gains[k, 2 * c : 2 * c + 8], left, right)


@njit(inline="always", **OPTIONS)
def chosen(stride, x, mine, to):
    """Copy those lanes of rows that are 1 in ``mine``."""
    half = splat(stride, f32(0.5))
    for at in range(0, to.size, len(stride)):
        store(to, at, where_over(mine, half, load(stride, x, at), load(stride, to, at)))


@njit(**OPTIONS)
def looking_ahead(stride, x, early, to):
    """Write each lane of a bank as many rows earlier as it looks ahead [LANES]. Lanes that look equally far ahead are taken together."""
    L = len(stride)
    looks, ahead, mine = 0, np.zeros(L, np.int64), np.zeros(L * L, np.float32)
    for c in range(L):
        k = 0
        while k < looks and ahead[k] != early[c]:
            k += 1
        looks = max(looks, k + 1)
        ahead[k], mine[k * L + c] = early[c], f32(1.0)
    for k in range(looks):
        seen = x[ahead[k] * L :]
        if looks == 1:
            for at in range(0, to.size, L):
                store(to, at, load(stride, seen, at))
        else:
            chosen(stride, seen, load(stride, mine, k * L), to)


@njit(**OPTIONS)
def mix_down(stride, bank, lanes, used, gains, out):
    """Add some lanes of a bank, ``used``, to another bank, ``out``; gains [used.size * LANES]: of each into its lanes. Four rows go at a time.

    Each product is rounded, as in ``place``, so that both give the same.
    """
    L = len(stride)
    rows = out.size // L
    for i in range(0, rows - 3, 4):
        k, m = i * lanes, i * L
        one, two = load(stride, out, m), load(stride, out, m + L)
        three, four = load(stride, out, m + 2 * L), load(stride, out, m + 3 * L)
        for n in range(used.size):
            c, gain = used[n], load(stride, gains, n * L)
            one = one + load_one(stride, bank, k + c) * gain
            two = two + load_one(stride, bank, k + lanes + c) * gain
            three = three + load_one(stride, bank, k + 2 * lanes + c) * gain
            four = four + load_one(stride, bank, k + 3 * lanes + c) * gain
        store(out, m, one)
        store(out, m + L, two)
        store(out, m + 2 * L, three)
        store(out, m + 3 * L, four)
    for i in range(rows - rows % 4, rows):
        total = load(stride, out, i * L)
        for n in range(used.size):
            total = total + load_one(stride, bank, i * lanes + used[n]) * load(stride, gains, n * L)
        store(out, i * L, total)


BANKS = made_for(looking_ahead, mix_down)
