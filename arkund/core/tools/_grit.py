"""Grit's compiled loops: eight times the rate and back, and the bend between. Private and unchecked: see ``grit``.

Stages take each sample's neighbours on both sides, so there is no state: what a sample becomes depends on those around it alone, wherever a piece begins.
"""

from numba import njit

from arkund.core.dsp.compiled import OPTIONS, f32, made_for, room
from arkund.core.dsp.lanes import fused, inverse, larger, load, root, size, smaller, splat, store, where_over

ROWS = 1024  # that are worked on at a time: what lies around them is worked out for each anew, and all should stay near the processor
BEFORE = AFTER = 60  # rows that a row depends on
SPARE = 16  # rows at the end of each stage, because four are always worked on together
TINY = f32(1e-12)


@njit(**OPTIONS)
def doubled(stride, x, first, count, taps, out):
    """Write rows of twice the rate: those of ``x`` from a row on, and between two of them what lies there; up to three more.

    Four at a time, because none waits for another.
    """
    L = len(stride)
    for i in range(0, count, 4):
        at, to = (first + i) * L, 2 * i * L
        one, two, three, four = (
            splat(stride, f32(0.0)),
            splat(stride, f32(0.0)),
            splat(stride, f32(0.0)),
            splat(stride, f32(0.0)),
        )
        for n in range(taps.size):
            tap, back, on = splat(stride, taps[n]), at - n * L, at + (n + 1) * L
            one = fused(tap, load(stride, x, back) + load(stride, x, on), one)
            two = fused(tap, load(stride, x, back + L) + load(stride, x, on + L), two)
            three = fused(tap, load(stride, x, back + 2 * L) + load(stride, x, on + 2 * L), three)
            four = fused(tap, load(stride, x, back + 3 * L) + load(stride, x, on + 3 * L), four)
        store(out, to, load(stride, x, at))
        store(out, to + L, one)
        store(out, to + 2 * L, load(stride, x, at + L))
        store(out, to + 3 * L, two)
        store(out, to + 4 * L, load(stride, x, at + 2 * L))
        store(out, to + 5 * L, three)
        store(out, to + 6 * L, load(stride, x, at + 3 * L))
        store(out, to + 7 * L, four)


@njit(**OPTIONS)
def halved(stride, x, first, count, taps, out):
    """Write rows of half the rate: around every second row of ``x`` from a row on; taps from the middle outwards; up to three more."""
    L = len(stride)
    for i in range(0, count, 4):
        at, to, tap = (first + 2 * i) * L, i * L, splat(stride, taps[0])
        one, two = tap * load(stride, x, at), tap * load(stride, x, at + 2 * L)
        three, four = tap * load(stride, x, at + 4 * L), tap * load(stride, x, at + 6 * L)
        for n in range(1, taps.size):
            tap, back, on = splat(stride, taps[n]), at - n * L, at + n * L
            one = fused(tap, load(stride, x, back) + load(stride, x, on), one)
            two = fused(tap, load(stride, x, back + 2 * L) + load(stride, x, on + 2 * L), two)
            three = fused(tap, load(stride, x, back + 4 * L) + load(stride, x, on + 4 * L), three)
            four = fused(tap, load(stride, x, back + 6 * L) + load(stride, x, on + 6 * L), four)
        store(out, to, one)
        store(out, to + L, two)
        store(out, to + 2 * L, three)
        store(out, to + 3 * L, four)


@njit(**OPTIONS)
def bent(stride, x, count, params, cuts, out):
    """Write what the bend adds, row by row: its mean between the neighbours of a row, less theirs.

    The mean of the curve over the way from one sample to the next is what a continuous signal would leave there, so that harmonics near the rate are
    weakened before they fold (first-order antiderivative antialiasing: J. Parker et al., DAFx 2016). Both curves have means without small differences of
    large numbers: of x / sqrt(1 + x^2) it is (a + b) / (sqrt(1 + a^2) + sqrt(1 + b^2)), of the clipped line it is put together of the clipped ends.
    params rows: 0 bias, 1 the curve there, 2 one over its slope there, 3 share of the clipped line. cuts : whether any lane has one.
    """
    L = len(stride)
    bias, there, steep = load(stride, params, 0), load(stride, params, L), load(stride, params, 2 * L)
    clipped = load(stride, params, 3 * L)
    one, least, half = splat(stride, f32(1.0)), splat(stride, f32(-1.0)), splat(stride, f32(0.5))
    tiny = splat(stride, TINY)
    now, then = load(stride, x, 0) + bias, load(stride, x, L) + bias
    now_root, then_root = root(fused(now, now, one)), root(fused(then, then, one))
    if not cuts:
        for i in range(count):
            last = load(stride, x, (i + 2) * L) + bias
            last_root = root(fused(last, last, one))
            curve = (now + last) * inverse(now_root + last_root)
            store(out, i * L, fused(curve - there, steep, bias - half * (now + last)))
            now, then, now_root, then_root = then, last, then_root, last_root
        return
    for i in range(count):
        last = load(stride, x, (i + 2) * L) + bias
        last_root = root(fused(last, last, one))
        soft = (now + last) * inverse(now_root + last_root)
        low, high = smaller(larger(now, least), one), smaller(larger(last, least), one)
        way = last - now
        along = (high - low) * inverse(where_over(size(way), tiny, way, one))
        hard = half * fused(along, (last - high) + (now - low), low + high)
        curve = fused(clipped, hard - soft, soft)
        store(out, i * L, fused(curve - there, steep, bias - half * (now + last)))
        now, then, now_root, then_root = then, last, then_root, last_root


@njit(**OPTIONS)
def grit(stride, x, out, params, cuts, up_1, up_2, up_3, down_3, down_2, down_1):
    """Write what bending adds to rows of x, which begin BEFORE rows in and end AFTER rows before its end. up, down : taps from the first stage on."""
    L = len(stride)
    part = room((ROWS + BEFORE + AFTER + SPARE) * L)
    one = room((2 * ROWS + 160 + SPARE) * L)
    two = room((4 * ROWS + 296 + SPARE) * L)
    top = room((8 * ROWS + 572 + SPARE) * L)
    made = room((8 * ROWS + 570 + SPARE) * L)
    rows = out.size // L
    for start in range(0, rows, ROWS):
        n = min(ROWS, rows - start)
        some = x[start * L : (start + n + BEFORE + AFTER) * L]
        part[: some.size] = some
        doubled(stride, part, 20, n + 80, up_1, one)
        doubled(stride, one, 6, 2 * n + 148, up_2, two)
        doubled(stride, two, 5, 4 * n + 286, up_3, top)
        bent(stride, top, 8 * n + 570, params, cuts, made)
        halved(stride, made, 9, 4 * n + 276, down_3, two)
        halved(stride, two, 12, 2 * n + 125, down_2, one)
        halved(stride, one, 63, n, down_1, part)
        out[start * L : (start + n) * L] = part[: n * L]


@njit(**OPTIONS)
def driven(stride, x, drive, out):
    """Write rows times a gain for each lane."""
    gain = load(stride, drive, 0)
    for at in range(0, x.size, len(stride)):
        store(out, at, load(stride, x, at) * gain)


@njit(**OPTIONS)
def added(stride, x, made, share, output):
    """Add a share of what was made to rows, and weigh both."""
    wet, gain = load(stride, share, 0), load(stride, output, 0)
    for at in range(0, made.size, len(stride)):
        store(x, at, fused(load(stride, made, at), wet, load(stride, x, at)) * gain)


BANKS = made_for(grit, driven, added)
