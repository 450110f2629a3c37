"""A filter whose gain moves while its poles stay: compiled parts that tools share. Private and unchecked: see ``moving``."""

from numba import njit

from arkund.core.dsp.compiled import OPTIONS, f32
from arkund.core.dsp.lanes import fused, load, splat


@njit(inline="always", **OPTIONS)
def states(stride, v0, ic1, ic2, p, at):
    """Return what passes the band and what passes below it, and the next states; the coefficients are three rows from ``at`` on."""
    L = len(stride)
    v3, a2, half = v0 - ic2, load(stride, p, at + L), splat(stride, f32(0.5))
    d1 = fused(load(stride, p, at), ic1, a2 * v3)
    d2 = fused(a2, ic1, load(stride, p, at + 2 * L) * v3)
    return fused(half, d1, ic1), fused(half, d2, ic2), ic1 + d1, ic2 + d2
