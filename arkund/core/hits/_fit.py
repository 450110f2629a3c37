"""The compiled loops of ``fit``. Private and unchecked.

The on-disk cache watches this file only: after a change of the constants taken from elsewhere, compile anew.
"""

import itertools

import numpy as np
from numba import njit

from arkund.core.hits._kernels import AFTER, BANDS, BEFORE, NOT_THERE, OPTIONS, TINY
from arkund.core.hits.bands import EDGES_HZ, FRAMES_PER_S

FROM, TO = -8, 24  # frames around a candidate over which both explanations are compared
REST_FROM = -24  # to FROM: where the steady rest is taken
LEAST_REST = 0.05  # of what was heard there
LEAST_SHARE = 0.05  # of a mic's power in a band: where a stroke leaves less, it says nothing
RIVAL = 15  # frames: strokes of the same piece that near are other guesses at the same one
ROUNDS, MOST_CHANGE = 3, 16.0  # of a stroke's strength, and the factor by which it may change
MOST_SHAPE = 2.0  # what is trusted: real sounds differ from their print by more than chance
# Of the gamma distribution of a band's power over a frame: bandwidth times duration.
SHAPES = tuple(min((high - low) / FRAMES_PER_S, MOST_SHAPE) for low, high in itertools.pairwise(EDGES_HZ))
TOGETHER = 13  # frames whose ratios are multiplied before the logarithm: none is below 1e-13, so nothing underflows
HALF = 3  # bands that count as low
GROUPS = 3  # own mics, other close mics, mics of the kit
MEASURES = 2 * GROUPS + 3


@njit(fastmath={"reassoc", "nsz", "contract"}, **OPTIONS)
def fits(power, prints, frames, pieces, asked, sure, likely, height, learnt, full, mic_piece, out, total):
    """Fill for each candidate asked about how much likelier the power around it is with a stroke than without: by low and high bands of GROUPS of mics, and
    in all (also ``total``, zero where it is not known); and how strong that stroke is (dB of the piece's stronger ones).

    prints [pieces, mics, bands, BEFORE + AFTER]: time comes last, so that frames are worked out side by side.
    """
    frames_there, mics = power.shape[0], power.shape[1]
    size = TO - FROM
    without, heard = np.zeros((mics, BANDS, size)), np.zeros((mics, BANDS, size))
    start = 0
    for row in range(asked.size):
        c, o = asked[row], out[row]
        t, p = frames[c], pieces[c]
        o[:] = NOT_THERE
        if learnt[p] < 1 or t + REST_FROM < 0 or t + TO >= frames_there:
            continue
        while start < likely.size and frames[likely[start]] <= t + REST_FROM - AFTER:
            start += 1
        for q in range(mics):
            for b in range(BANDS):
                for u in range(size):
                    heard[q, b, u] = power[t + FROM + u, q, b] + TINY
                    without[q, b, u] = 0.0
                rest = 0.0
                for u in range(REST_FROM, FROM):
                    rest += power[t + u, q, b]
                least = LEAST_REST * rest
                for at in range(start, likely.size):
                    k = likely[at]
                    if frames[k] >= t + TO + BEFORE:
                        break
                    if pieces[k] == p and abs(frames[k] - t) <= RIVAL:
                        continue
                    strength = sure[k] * height[k]
                    first = t - frames[k] + BEFORE  # in its print, where the candidate is
                    for u in range(max(REST_FROM, -first), min(TO, BEFORE + AFTER - first)):
                        bled = strength * prints[pieces[k], q, b, first + u]
                        if u < FROM:
                            rest -= bled
                        else:
                            without[q, b, u - FROM] += bled
                rest = max(rest, least) / (FROM - REST_FROM) + TINY
                for u in range(size):
                    without[q, b, u] += rest
        strength = max(height[c], 1e-12)
        lowest, highest = strength / MOST_CHANGE, strength * MOST_CHANGE
        for _ in range(ROUNDS):  # the multiplicative step towards the likeliest strength
            over, under = 0.0, 0.0
            for q in range(mics):
                for b in range(BANDS):
                    mine, told, had = prints[p, q, b], without[q, b, -BEFORE - FROM :], heard[q, b, -BEFORE - FROM :]
                    more, less = 0.0, 0.0
                    for u in range(TO + BEFORE):
                        inverse = 1.0 / (told[u] + strength * mine[u])
                        part = mine[u] * inverse
                        more += part * had[u] * inverse
                        less += part
                    over += SHAPES[b] * more
                    under += SHAPES[b] * less
            strength = min(max(strength * over / (under + 1e-300), lowest), highest)
        o[: 2 * GROUPS] = 0.0
        for q in range(mics):
            group = 0 if mic_piece[q] == p else 1 if mic_piece[q] >= 0 else 2
            for b in range(BANDS):
                most, mean = 0.0, 0.0
                for u in range(size):
                    mean += heard[q, b, u] / size
                mine, told, had = prints[p, q, b], without[q, b, -BEFORE - FROM :], heard[q, b, -BEFORE - FROM :]
                for u in range(TO + BEFORE):
                    most = max(most, strength * mine[u])
                if most < LEAST_SHARE * mean:
                    continue
                better = 0.0
                for part in range(0, TO + BEFORE, TOGETHER):
                    ratios = 1.0  # one logarithm for all of them
                    for u in range(part, min(part + TOGETHER, TO + BEFORE)):
                        ratio = told[u] / (told[u] + strength * mine[u])
                        ratios *= ratio
                        better += had[u] / told[u] * (1.0 - ratio)
                    better += np.log(ratios)
                better *= SHAPES[b]
                o[2 * group + (b >= HALF)] += better
                total[row] += better
        o[2 * GROUPS] = total[row]
        o[2 * GROUPS + 1] = 10.0 * np.log10((strength + 1e-12) / (full[p] + 1e-12))


@njit(**OPTIONS)
def leads(frames, pieces, asked, total, out):
    """Fill how much more each candidate asked about explains than its best rival."""
    for row in range(asked.size):
        best, p, t = 0.0, pieces[asked[row]], frames[asked[row]]
        for side in (-1, 1):
            other = row + side
            while 0 <= other < asked.size and abs(frames[asked[other]] - t) <= RIVAL:
                if pieces[asked[other]] == p:
                    best = max(best, total[other])
                other += side
        out[row] = total[row] - best
