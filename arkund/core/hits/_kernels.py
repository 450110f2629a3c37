"""Compiled loops of the hit finder. Private and unchecked: see ``onsets``, ``evidence`` and ``prints``.

Times of powers and levels are frames of a millisecond, those of quick ones quarters of it. A *window* i..j is counted from a candidate's
frame. Kernels that call each other stay in this file, because the on-disk cache watches one file only.
"""

import numpy as np
from numba import njit

from arkund.core.dsp.compiled import PLAIN as OPTIONS
from arkund.core.dsp.lanes import larger, load, store

BANDS, QUARTERS = 6, 4
BEFORE, AFTER = 2, 40  # frames of a print before and after its onset
FAMILIES = 5  # kick, snare, tom, cymbal; the last: mics of the whole kit
KIT = 4
NOT_THERE = np.float32(-50.0)  # stands for a measure that cannot be taken
TINY = 1e-11
REST_BEFORE = 10  # frames before a stroke in which the sound that it must rise from is taken
ARRIVED_DB = 10.0  # below its peak: where a sound is taken to arrive
HEARD_DB = 6.0  # a rise of this much in another mic counts as heard there
EARLIER = 1  # quarters by which another mic must be first to count as earlier
BESIDE = 14  # frames within which another piece's stroke counts as beside
LAG = 4  # frames over which a ringing level's own unrest is taken
SPLIT_TINY = 1e-14
NEIGHBOUR = 200  # frames within which the same piece's strokes are looked for
EIGHT = (None,) * 8  # frames side by side
PART = 512  # frames looked at one after the other, a multiple of them
f32 = np.float32


@njit(**OPTIONS)
def _top(level, i, j, m, b):
    """Return the largest value in i..j, -200 outside the recording."""
    most = f32(-200.0)
    for t in range(max(i, 0), min(j, level.shape[0])):
        most = max(most, level[t, m, b])
    return most


@njit(**OPTIONS)
def _mean(level, i, j, m, b):
    """Return the mean in i..j, -120 outside the recording."""
    total, n = f32(0.0), 0
    for t in range(max(i, 0), min(j, level.shape[0])):
        total += level[t, m, b]
        n += 1
    return total / f32(n) if n else f32(-120.0)


@njit(**OPTIONS)
def _arrival(quick, i, j, m, k):
    """Return the first quarter in i..j that comes within ARRIVED_DB of the largest."""
    least = _top(quick, i, j, m, k) - ARRIVED_DB
    for t in range(max(i, 0), min(j, quick.shape[0])):
        if quick[t, m, k] >= least:
            return t
    return j


@njit(**OPTIONS)
def _column(level, m, band, first, beyond, out):
    """Copy frames of a mic's band, from ``first`` on; before the take there is nothing, after it ``beyond``."""
    for i in range(out.size):
        t = first + i
        out[i] = level[t, m, band] if 0 <= t < level.shape[0] else (f32(-np.inf) if t < 0 else beyond)


@njit(**OPTIONS)
def _largest(x, at, count, out):
    """Write for each i the largest of ``count`` values from ``at + i`` on, so many frames side by side."""
    for i in range(0, out.size, len(EIGHT)):
        most = load(EIGHT, x, at + i)
        for k in range(1, count):
            most = larger(most, load(EIGHT, x, at + i + k))
        store(out, i, most)


@njit(**OPTIONS)
def band_rises(level, mics, back, ahead, most, out):
    """Raise out to how far the three bands that rise most do so at each frame, over all given mics: the mean of the next ``ahead`` frames against
    the largest of the ``back[band]`` before, each at most ``most`` dB.
    """
    pad = back.max()
    x = np.empty(pad + PART + ahead, np.float32)
    now, before = np.empty(PART, np.float32), np.empty(PART, np.float32)
    a, b, c = np.empty(PART, np.float32), np.empty(PART, np.float32), np.empty(PART, np.float32)  # the three, falling
    for start in range(0, level.shape[0], PART):
        n = min(PART, level.shape[0] - start)
        for m in mics:
            a[:], b[:], c[:] = f32(0.0), f32(0.0), f32(0.0)
            for band in range(BANDS):
                _column(level, m, band, start - pad, f32(0.0), x)
                now[:] = f32(0.0)
                for k in range(ahead):
                    for i in range(PART):
                        now[i] += x[pad + i + k]
                _largest(x, pad - back[band], back[band], before)
                for i in range(n):
                    rise = min(now[i] / f32(min(ahead, level.shape[0] - start - i)) - before[i], most)
                    second = min(a[i], rise)
                    third = min(b[i], second)
                    a[i], b[i], c[i] = max(a[i], rise), max(b[i], second), max(c[i], third)
            for i in range(max(1 - start, 0), n):
                out[start + i] = max(out[start + i], (a[i] + b[i] + c[i]) / f32(3.0))


@njit(**OPTIONS)
def quick_rises(quick, mics, back, ahead, out):
    """Raise out to how far either wide band rises at each quarter, over all given mics: the largest of the next ``ahead`` against that of the ``back``
    before.
    """
    x = np.empty(back + PART + ahead, np.float32)
    now, before = np.empty(PART, np.float32), np.empty(PART, np.float32)
    for start in range(0, quick.shape[0], PART):
        for m in mics:
            for band in range(quick.shape[2]):
                _column(quick, m, band, start - back, f32(-np.inf), x)
                _largest(x, back, ahead, now)
                _largest(x, 0, back, before)
                for i in range(max(1 - start, 0), min(PART, quick.shape[0] - start)):
                    out[start + i] = max(out[start + i], now[i] - before[i])


@njit(**OPTIONS)
def _restless(level, i, j, m, b):
    """Return how much the level moves from each frame to the fourth next in i..j, rms."""
    total, n = f32(0.0), 0
    for t in range(max(i, 0), min(j, level.shape[0]) - LAG):
        step = level[t + LAG, m, b] - level[t, m, b]
        total += step * step
        n += 1
    return np.sqrt(total / f32(max(n, 1)))


OWN, RINGING, SECOND, OTHERS, SUMMARY = 14 + 30, 4 + 24, 5, FAMILIES * 11, 5
HEARD = OWN + RINGING + SECOND + OTHERS + SUMMARY  # measures of heard_evidence


@njit(**OPTIONS)
def heard_evidence(
    level, quick, full, quick_full, frames, pieces, first, second, mic_family, mic_piece, piece_family, out
):
    """Fill HEARD measures for each candidate: its rise and decay in its own mics, and what the other mics heard around it.

    level [frames, mics, BANDS] and quick [quarters, mics, 2] in dB; full and quick_full: each mic's strongest strokes; first and second: the piece's
    own mics (-1: none).
    """
    for c in range(frames.size):
        t, p, o = frames[c], pieces[c], out[c]
        t4, m, s = QUARTERS * t, first[p], second[p]
        n = 0
        for k in range(2):
            peak = _top(quick, t4 - 2, t4 + 8, m, k)
            o[n] = peak - quick_full[m, k]
            o[n + 1] = peak - _top(quick, t4 - 8, t4 - 2, m, k)
            o[n + 2] = peak - _top(quick, t4 - 20, t4 - 2, m, k)
            o[n + 3] = peak - _top(quick, t4 - 48, t4 - 20, m, k)
            o[n + 4] = _top(quick, t4 + 8, t4 + 24, m, k) - peak
            o[n + 5] = _top(quick, t4 + 40, t4 + 60, m, k) - peak
            o[n + 6] = _top(quick, t4 + 100, t4 + 140, m, k) - peak
            n += 7
        for b in range(BANDS):
            now, later = _mean(level, t, t + 5, m, b), _mean(level, t + 5, t + 15, m, b)
            o[n] = now - full[m, b]
            o[n + 1] = now - _top(level, t - 4, t, m, b)
            o[n + 2] = now - _top(level, t - 14, t - 4, m, b)
            o[n + 3] = later - now
            o[n + 4] = _mean(level, t + 20, t + 40, m, b) - later
            n += 5
        for k in range(2):  # against what rang before, which moves up and down by itself
            o[n] = _top(quick, t4 - 2, t4 + 8, m, k) - _top(quick, t4 - 200, t4 - 48, m, k)
            o[n + 1] = _mean(quick, t4, t4 + 60, m, k) - _mean(quick, t4 - 60, t4 - 4, m, k)
            n += 2
        for b in range(BANDS):
            o[n] = _mean(level, t, t + 5, m, b) - _top(level, t - 50, t - 14, m, b)
            o[n + 1] = _mean(level, t + 1, t + 20, m, b) - _mean(level, t - 20, t - 2, m, b)
            o[n + 2] = _restless(level, t - 44, t - 1, m, b)
            o[n + 3] = _restless(level, t + 8, t + 48, m, b)
            n += 4
        for k in range(2):
            o[n + k] = _top(quick, t4 - 4, t4 + 12, s, k) - _top(quick, t4 - 20, t4 - 4, s, k) if s >= 0 else NOT_THERE
        for g in range(3):
            o[n + 2 + g] = NOT_THERE
            if s >= 0:
                o[n + 2 + g] = f32(0.5) * (
                    _mean(level, t, t + 6, s, 2 * g)
                    - _top(level, t - 8, t - 1, s, 2 * g)
                    + _mean(level, t, t + 6, s, 2 * g + 1)
                    - _top(level, t - 8, t - 1, s, 2 * g + 1)
                )
        n += 5
        mine = np.zeros(2, np.int64)
        loud = np.zeros(2, np.float32)
        for k in range(2):
            mine[k] = _arrival(quick, t4 - 4, t4 + 10, m, k)
            loud[k] = _top(quick, t4 - 2, t4 + 8, m, k) - quick_full[m, k]
        earlier, earliest, strongest = 0, 99, f32(-200.0)
        for family in range(FAMILIES):
            best, most = -1, f32(-300.0)
            for j in range(level.shape[1]):
                if mic_family[j] != family or mic_piece[j] == p:
                    continue
                rise = _top(quick, t4 - 12, t4 + 24, j, 0) - _top(quick, t4 - 32, t4 - 12, j, 0)
                if family != KIT:
                    if rise > HEARD_DB:
                        lag = _arrival(quick, t4 - 12, t4 + 24, j, 0) - mine[0]
                        earlier += lag < -EARLIER
                        earliest = min(earliest, lag)
                    strongest = max(strongest, _top(quick, t4 - 12, t4 + 24, j, 0) - quick_full[j, 0])
                if rise > most:
                    best, most = j, rise
            if best < 0:
                for k in range(11):
                    o[n + k] = NOT_THERE
            else:
                o[n] = most
                o[n + 1] = _top(quick, t4 - 12, t4 + 24, best, 1) - _top(quick, t4 - 32, t4 - 12, best, 1)
                for k in range(2):
                    o[n + 2 + k] = _top(quick, t4 - 12, t4 + 24, best, k) - quick_full[best, k]
                    o[n + 4 + k] = _arrival(quick, t4 - 12, t4 + 24, best, k) - mine[k]
                    o[n + 6 + k] = loud[k] - o[n + 2 + k]
                for g in range(3):
                    over = f32(0.0)
                    for b in range(2 * g, 2 * g + 2):
                        over += (_mean(level, t, t + 8, m, b) - full[m, b]) - (
                            _mean(level, t - 2, t + 8, best, b) - full[best, b]
                        )
                    o[n + 8 + g] = f32(0.5) * over
            n += 11
        o[n] = earlier
        o[n + 1] = earliest
        o[n + 2] = loud[0] - strongest
        o[n + 3] = piece_family[p]
        o[n + 4] = quick_full[m, 1] - quick_full[m, 0]


@njit(**OPTIONS)
def _held(power, t, i, j, m, b):
    """Return the mean power in window i..j, and the largest just before the candidate."""
    rest = 0.0
    for u in range(max(t - REST_BEFORE, 0), max(t - 1, 1)):
        rest = max(rest, power[u, m, b])
    total, n = 0.0, 0
    for u in range(max(t + i, 0), min(t + j, power.shape[0])):
        total += power[u, m, b]
        n += 1
    return total / max(n, 1), rest


@njit(**OPTIONS)
def _printed(sums, p, i, j, m, b):
    """Return the mean of a print in window i..j, zero outside it; sums adds the print up from its beginning."""
    last = sums.shape[1] - 1
    low, high = min(max(BEFORE + i, 0), last), min(max(BEFORE + j, 0), last)
    return (sums[p, high, m, b] - sums[p, low, m, b]) / (j - i) if high > low else 0.0


@njit(**OPTIONS)
def heights(power, sums, frames, pieces, asked, first, learnt, height, spread):
    """Fill how strong each candidate asked about is against its piece's print, and by how many dB its bands disagree.

    Other sounds only ever add, so a low quantile over the bands is taken.
    """
    for c in asked:
        p = pieces[c]
        m = first[p]
        height[c], spread[c] = 0.0, NOT_THERE
        if learnt[p] < 1:
            continue
        top = 0.0
        for b in range(BANDS):
            top = max(top, _printed(sums, p, 0, 12, m, b))
        ratios, n = np.zeros(2 * BANDS), 0
        for b in range(BANDS):
            for i, j in ((0, 5), (5, 12)):
                told = _printed(sums, p, i, j, m, b)
                if told < 0.03 * top:
                    continue
                had, rest = _held(power, frames[c], i, j, m, b)
                ratios[n] = 10.0 * np.log10(max(had - rest, 0.02 * had) / told + 1e-13)
                n += 1
        if n:
            low = np.sort(ratios[:n])
            height[c] = 10.0 ** (low[int(0.35 * n)] / 10.0)
            spread[c] = low[int(0.8 * (n - 1))] - low[int(0.2 * (n - 1))]


@njit(**OPTIONS)
def _bleed(sums, frames, pieces, sure, height, likely, start, c, m, b, i, j):
    """Return the power that the other pieces' likely strokes, from the start-th on, leave in window i..j of a mic."""
    total = 0.0
    for at in range(start, likely.size):
        k = likely[at]
        if frames[k] >= frames[c] + j + BEFORE:
            break
        if pieces[k] != pieces[c]:
            apart = frames[c] - frames[k]
            total += sure[k] * height[k] * _printed(sums, pieces[k], apart + i, apart + j, m, b)
    return total


EXPLAINED = 12 + 6 + 2 + 4 + 2 + 8 + (FAMILIES - 1) * 4 + 6  # measures of explained_evidence


@njit(**OPTIONS)
def explained_evidence(
    power, sums, frames, pieces, asked, sure, likely, first, second, mic_family, mic_piece, piece_family,
    learnt, alone, trust, full, height, spread, out,
):  # fmt: skip
    """Fill EXPLAINED measures for each candidate asked about: what is left when the other pieces' likely strokes are accounted for, and
    whether the other mics hold what a stroke of this piece would have left there. asked and likely: numbers of candidates, in order of time.
    """
    start = 0  # the first likely stroke whose print reaches the candidate
    for row in range(asked.size):
        c, o = asked[row], out[row]
        t, p = frames[c], pieces[c]
        m, s = first[p], second[p]
        known = learnt[p] > 0
        while start < likely.size and frames[likely[start]] <= t - AFTER - 2:
            start += 1
        n = 0
        for i, j in ((0, 5), (5, 14)):
            for b in range(BANDS):
                had, rest = _held(power, t, i, j, m, b)
                told = rest + _bleed(sums, frames, pieces, sure, height, likely, start, c, m, b, i, j)
                o[n] = 10.0 * np.log10((had + TINY) / (told + TINY))
                n += 1
        for b in range(BANDS):
            had, _ = _held(power, t, 0, 8, m, b)
            told = height[c] * _printed(sums, p, 0, 8, m, b)
            o[n] = 10.0 * np.log10((had + TINY) / (told + TINY)) if known else NOT_THERE
            n += 1
        o[n] = 10.0 * np.log10((height[c] + 1e-12) / (full[p] + 1e-12)) if known else NOT_THERE
        o[n + 1] = spread[c]
        o[n + 2], o[n + 3] = min(learnt[p], 8), min(alone[p], 8)
        o[n + 4] = sure[c]
        o[n + 5] = trust[p]
        n += 6
        for g in range(2):
            o[n + g] = NOT_THERE
            if s >= 0:
                over = 0.0
                for b in range(3 * g, 3 * g + 3):
                    had, rest = _held(power, t, 0, 10, s, b)
                    told = rest + _bleed(sums, frames, pieces, sure, height, likely, start, c, s, b, 0, 10)
                    over += 10.0 * np.log10((had + TINY) / (told + TINY))
                o[n + g] = over / 3.0
        n += 2
        for g in range(2):  # other close mics, then mics of the whole kit
            ratios, x = np.zeros(power.shape[1] * BANDS), 0
            for q in range(power.shape[1]):
                if not known or (mic_family[q] == KIT) != (g == 1) or mic_piece[q] == p:
                    continue
                for b in range(BANDS):
                    told = _printed(sums, p, 0, 16, q, b) * height[c]
                    had, rest = _held(power, t, 0, 16, q, b)
                    if told < 0.1 * rest or told < 10.0 * TINY:
                        continue
                    ratios[x] = 10.0 * np.log10((had + TINY) / (rest + told))
                    x += 1
            o[n], o[n + 1], o[n + 2], o[n + 3] = NOT_THERE, NOT_THERE, NOT_THERE, x
            if x > 2:
                low = np.sort(ratios[:x])
                o[n], o[n + 1], o[n + 2] = low[int(0.15 * x)], low[x // 2], low[int(0.85 * x)]
            n += 4
        for family in range(FAMILIES - 1):  # the likeliest stroke of each other family beside it
            o[n], o[n + 1], o[n + 2], o[n + 3] = 0.0, 50.0, NOT_THERE, 0.0
            for at in range(start, likely.size):
                k = likely[at]
                lag = frames[k] - t
                if lag >= BESIDE:
                    break
                if lag > -BESIDE and pieces[k] != p and int(piece_family[pieces[k]]) == family and sure[k] > o[n]:
                    told, held = 0.0, 0.0
                    for b in range(BANDS):
                        told += height[k] * _printed(sums, pieces[k], -lag, 10 - lag, m, b)
                        held += _held(power, t, 0, 10, m, b)[0]
                    o[n], o[n + 1] = sure[k], lag
                    o[n + 2] = 10.0 * np.log10((told + 1e-12) / (held + 1e-12))
                    o[n + 3] = 10.0 * np.log10((height[k] + 1e-12) / (full[pieces[k]] + 1e-12))
            n += 4
        here = start  # among the likely, where the candidate would stand
        while here < likely.size and likely[here] < c:
            here += 1
        for side in (-1, 1):  # the same piece's nearest likely stroke before and after
            o[n], o[n + 1], o[n + 2] = NEIGHBOUR, 0.0, 0.0
            at = here - 1 if side < 0 else here
            while 0 <= at < likely.size and abs(frames[likely[at]] - t) < NEIGHBOUR:
                k = likely[at]
                if k != c and pieces[k] == p and sure[k] > 0.4:
                    o[n], o[n + 1] = abs(frames[k] - t), sure[k]
                    o[n + 2] = 10.0 * np.log10((height[c] + 1e-12) / (height[k] + 1e-12))
                    break
                at += side
            n += 3


@njit(**OPTIONS)
def first_sample(x, rest, most, share, first, last, earliest, latest, differences):
    """Return the sample of x at which a stroke begins, and its peak: see ``refine``.

    The first ``rest`` samples are what it rises from; it begins within the next ``most``. Where it doesn't stand out by ``share``, samples first..last of the
    differenced signal are split between earliest and latest.
    """
    mean = 0.0
    for i in range(rest):
        mean += x[i] / rest
    peak, quiet = 0.0, 0.0
    for i in range(x.size):
        size = abs(x[i] - mean)
        if i < rest:
            quiet = max(quiet, size)
        else:
            peak = max(peak, size)
    if quiet < share * peak:
        for i in range(rest, min(rest + most, x.size)):
            if abs(x[i] - mean) > share * peak:
                return i, peak
        return rest + most, peak
    count = last - first
    energy = np.empty(count + 1)  # of the samples before each
    energy[0] = 0.0
    for i in range(count):
        at = first + i
        d = 1.0 * x[at] - x[at - 1] if differences == 1 else x[at] - 2.0 * x[at - 1] + x[at - 2]
        energy[i + 1] = energy[i] + d * d
    best, where = np.inf, earliest
    for at in range(earliest, latest):
        k = at - first
        before, after = energy[k] / k, (energy[count] - energy[k]) / (count - k)
        cost = k * np.log(before + SPLIT_TINY) + (count - k) * np.log(after + SPLIT_TINY)
        if cost < best:
            best, where = cost, at
    return where, peak
