"""Compiled: samples as they stand in files, with their dither. Private and unchecked: see ``files.writing``."""

import numpy as np
from numba import njit

from arkund.core.dsp.compiled import BLOCK, EIGHT, FOUR, OPTIONS, f32, u32
from arkund.core.dsp.lanes import (
    larger,
    load,
    paired,
    rounded_down,
    smaller,
    splat,
    store_24,
    store_wholes,
    triangular,
    turned,
)

SPARE_BYTES = 24  # behind what dither_24 writes


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
            for i in range(rows * lanes):
                padded[i] = part[i]
            part = padded
        late = u32((place + start) * channels)
        for k in range(0, rows * lanes, len(EIGHT)):
            level = smaller(larger(load(EIGHT, part, k), zero - one), one) * full + triangular(
                load(EIGHT, numbers, k), late
            )
            store_wholes(steps, k, smaller(larger(rounded_down(level + half), lowest), highest))
        pack_24(steps, lanes, channels, rows, out, size, start)
