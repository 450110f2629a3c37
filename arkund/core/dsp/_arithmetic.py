"""What compiled loops share: logarithms and powers, a section of a filter, copies and products of rows. Private and unchecked.

Logarithms and exponentials are polynomials: log2 within 2e-5 (0.0001 dB), exp2 within 1e-5 relative.
"""

from numba import njit

from arkund.core.dsp.compiled import FLAT, FLOOR, OPTIONS, TINY, f32, i32
from arkund.core.dsp.lanes import (
    exponent,
    fused,
    larger,
    load,
    mantissa,
    power_of_two,
    size,
    smaller,
    splat,
    truncated,
    where_over,
)


@njit(inline="always", **OPTIONS)
def log2(value):
    """log2 of a positive normal float32: exponent from the bits, degree-5 polynomial of the mantissa."""
    bits = f32(value).view(i32)
    exponent = f32((bits >> i32(23)) - i32(127))
    m = i32((bits & i32(0x007FFFFF)) | i32(0x3F800000)).view(f32)
    p = f32(0.0448721465)
    p = p * m - f32(0.41655276)
    p = p * m + f32(1.6311166)
    p = p * m - f32(3.55074626)
    p = p * m + f32(5.09167748)
    p = p * m - f32(2.80035465)
    return exponent + p


@njit(inline="always", **OPTIONS)
def exp2(value):
    """2 to the power of a float32 between -60 and 60: exponent into the bits, degree-4 polynomial."""
    v = min(max(f32(value), f32(-60.0)), f32(60.0))
    whole = i32(v + f32(64.0)) - i32(64)
    f = v - f32(whole)
    p = f32(0.0134266852)
    p = p * f + f32(0.0522424722)
    p = p * f + f32(0.241280206)
    p = p * f + f32(0.693044845)
    p = p * f + f32(1.0)  # exact at 0: a gain of 0 dB changes nothing
    return p * i32((whole + i32(127)) << i32(23)).view(f32)


@njit(**OPTIONS)
def polynomials(values, logs, powers):
    """Evaluate both polynomials over arrays, so that their error bounds can be tested."""
    for i in range(values.size):
        logs[i] = log2(abs(values[i]) + FLOOR)
        powers[i] = exp2(values[i])


@njit(inline="always", **OPTIONS)
def flush(state):
    for i in range(state.size):
        s = state[i]
        state[i] = s if abs(s) > TINY else f32(0.0)


@njit(inline="always", **OPTIONS)
def settled(stride, state):
    """Return states without those that have died away: in silence they would become numbers with which processors are slow."""
    return where_over(size(state), splat(stride, TINY), state, splat(stride, f32(0.0)))


@njit(**OPTIONS)
def section(stride, v0, ic1, ic2, p, at):
    """Return a section's output and its next states; its parameters lie from ``at`` on."""
    L = len(stride)
    v3, a2 = v0 - ic2, load(stride, p, at + L)
    d1 = fused(load(stride, p, at), ic1, a2 * v3)
    d2 = fused(a2, ic1, load(stride, p, at + 2 * L) * v3)
    y = fused(
        load(stride, p, at + 3 * L), v0, fused(load(stride, p, at + 4 * L), ic1, load(stride, p, at + 5 * L) * v3)
    )
    return y, ic1 + d1, ic2 + d2


@njit(inline="always", **OPTIONS)
def lanes_log2(stride, value):
    """``log2`` of lanes."""
    m = mantissa(value)
    p = fused(splat(stride, f32(0.0448721465)), m, splat(stride, f32(-0.41655276)))
    p = fused(p, m, splat(stride, f32(1.6311166)))
    p = fused(p, m, splat(stride, f32(-3.55074626)))
    p = fused(p, m, splat(stride, f32(5.09167748)))
    p = fused(p, m, splat(stride, f32(-2.80035465)))
    return exponent(value) + p


@njit(inline="always", **OPTIONS)
def lanes_exp2(stride, value):
    """``exp2`` of lanes."""
    v = smaller(larger(value, splat(stride, f32(-60.0))), splat(stride, f32(60.0)))
    up = splat(stride, f32(64.0))
    whole = truncated(v + up) - up
    f = v - whole
    p = fused(splat(stride, f32(0.0134266852)), f, splat(stride, f32(0.0522424722)))
    p = fused(p, f, splat(stride, f32(0.241280206)))
    p = fused(p, f, splat(stride, f32(0.693044845)))
    p = fused(p, f, splat(stride, f32(1.0)))  # exact at 0: a gain of 0 dB changes nothing
    return p * power_of_two(whole)


@njit(inline="always", **OPTIONS)
def even(part, spare):
    """Return rows that can be worked on FLAT values at a time: the rows themselves, or where they are no multiple of it, a copy in a buffer."""
    if part.size % len(FLAT) == 0:
        return part
    for i in range(part.size):
        spare[i] = part[i]
    return spare[: -(-part.size // len(FLAT)) * len(FLAT)]


@njit(inline="always", **OPTIONS)
def brought_back(part, worked):
    """Copy what was worked on to where it belongs, where it was a copy."""
    if part.size % len(FLAT) != 0:
        for i in range(part.size):
            part[i] = worked[i]
