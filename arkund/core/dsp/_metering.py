"""Compiled meters: powers, peaks at and between samples, followers. Private and unchecked: see ``loudness`` and ``limiter``."""

import numpy as np
from numba import njit

from arkund.core.dsp._arithmetic import log2, section, settled
from arkund.core.dsp.compiled import BLOCK, EIGHT, FLAT, FLOOR, HALF_DB_PER_OCTAVE, NEAR, OPTIONS, PLAIN, f32, made_for
from arkund.core.dsp.lanes import fused, larger, load, size, splat, store, where_over


@njit(**OPTIONS)
def decibels(power, floor, out):
    """Write 10 log10 of each row of powers plus its column's floor; rows of floor.size values."""
    columns = floor.size
    for row in range(power.size // columns):
        for c in range(columns):
            out[row * columns + c] = log2(power[row * columns + c] + floor[c]) * HALF_DB_PER_OCTAVE


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
        a1, a2, b1, b2 = settled(stride, a1), settled(stride, a2), settled(stride, b1), settled(stride, b2)
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
    return done


@njit(fastmath=True, **PLAIN)
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


@njit(**OPTIONS)
def peaks_between(channel, taps, coarse, near, least, out):
    """Raise ``out`` to the largest magnitude between each sample and the next, sixteen samples at a time.

    channel : half a filter of silence, the samples, and half a filter and more of silence; taps [shape=(phases, length)]: interpolation filters of the phases
    after the sample itself; out : as many values as there are samples, and up to a whole row more. Sixteen samples around which nothing reaches
    ``least`` keep their own magnitude; where no ``coarse``-th phase of them reaches ``near``, the others are not looked at.
    """
    length, found = taps.shape[1], np.empty(len(FLAT), np.float32)
    half = length // 2
    for first in range(0, out.size, len(FLAT)):
        around = splat(FLAT, f32(0.0))
        for k in range(first, first + length + len(FLAT), len(FLAT)):
            around = larger(around, size(load(FLAT, channel, k)))
        best = size(load(FLAT, channel, first + half))
        store(found, 0, around)
        if found.max() >= least:
            for rank in range(2):
                for phase in range(taps.shape[0]):
                    if ((phase + 1) % coarse == 0) != (rank == 0):
                        continue
                    total = splat(FLAT, f32(0.0))
                    for k in range(length):
                        total = fused(splat(FLAT, taps[phase, k]), load(FLAT, channel, first + 1 + k), total)
                    best = larger(best, size(total))
                store(found, 0, best)
                if found.max() < near:
                    break
        store(out, first, larger(load(FLAT, out, first), best))


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


BANKS = made_for(weighted)
