"""Compiled loops over what is drawn and struck along a song: thousands of places cost what is near. Private and unchecked: see those who call them."""

from numba import njit

from arkund.core.dsp.compiled import OPTIONS, f32, made_for
from arkund.core.dsp.lanes import larger, load, smaller, store


@njit(**OPTIONS)
def raise_spans(out, begins, ends, rising, falling):
    """Raise a curve [shape=(samples,)] to 1 in spans of it, and along a rise before and a fall behind each; what is higher stays."""
    for k in range(begins.size):
        begin, end = begins[k], ends[k]
        for i in range(max(begin, 0), min(end, out.size)):
            out[i] = f32(1.0)
        for i in range(max(begin - rising.size, 0), min(begin, out.size)):
            out[i] = max(out[i], rising[i - begin + rising.size])
        for i in range(max(end, 0), min(end + falling.size, out.size)):
            out[i] = max(out[i], falling[i - end])


@njit(**OPTIONS)
def add_strikes(out, start, at, gains, first, sizes, sounds, room, gives_way):
    """Add sounds to a signal [float64, shape=(samples,)] that begins at ``start``.

    at : where each begins, in order; gains : factors; first, sizes : where its sound lies in ``sounds``, and how long it is; room : how much of it is heard,
    where that is less, its end fades within ``gives_way`` samples
    """
    for k in range(at.size):
        begin, length, gain, place = at[k] - start, min(sizes[k], room[k]), gains[k], first[k]
        for i in range(max(begin, 0), min(begin + length, out.size)):
            n = i - begin
            value = gain * sounds[place + n]
            if room[k] < sizes[k]:
                value *= min(max((length - n) / gives_way, 0.0), 1.0)
            out[i] += value


@njit(**OPTIONS)
def add_between_samples(out, start, parts, gains, first, sizes, sounds, readers):
    """Add sounds to a signal [float64, shape=(samples,)] that begins at ``start``, each from a part of a sample on.

    parts : where each begins, in parts of a sample, ``readers.shape[0]`` of them in each; gains, first, sizes, sounds : as of ``add_strikes``; readers : the
    taps that delay by each part, and by half their number less one
    """
    half = readers.shape[1] // 2
    for k in range(parts.size):
        whole = parts[k] // readers.shape[0]
        part, begin, size, gain, place = (
            parts[k] - whole * readers.shape[0],
            whole - start,
            sizes[k],
            gains[k],
            first[k],
        )
        if part == 0:
            for i in range(max(begin, 0), min(begin + size, out.size)):
                out[i] += gain * sounds[place + i - begin]
            continue
        taps = readers[part]
        for i in range(max(begin - half + 1, 0), min(begin + size + half, out.size)):
            value, newest = 0.0, i - begin + half - 1
            for j in range(max(newest - size + 1, 0), min(newest + 1, taps.size)):
                value += taps[j] * sounds[place + newest - j]
            out[i] += gain * value


@njit(**OPTIONS)
def extremes(stride, x, rows, low, high):
    """Write the lowest and the highest of each so many rows of a bank; low, high: rows of LANES."""
    L = len(stride)
    for k in range(low.size // L):
        first = k * rows * L
        least = most = load(stride, x, first)
        for at in range(first + L, first + rows * L, L):
            each = load(stride, x, at)
            least, most = smaller(least, each), larger(most, each)
        store(low, k * L, least)
        store(high, k * L, most)


BANKS = made_for(extremes)
