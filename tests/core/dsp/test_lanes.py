"""Lanes: every operator does in each lane what float32 arithmetic does, in every width."""

from itertools import pairwise

import numpy as np
import pytest
from numba import njit

from arkund.core.dsp import _arithmetic, _filters, lanes
from arkund.core.dsp.bank import Filters
from arkund.core.dsp.filters import bell
from arkund.core.dsp.lanes import (
    exponent,
    fused,
    inverse,
    larger,
    load,
    load_one,
    mantissa,
    paired,
    power_of_two,
    root,
    size,
    smaller,
    splat,
    store,
    store_24,
    swapped,
    tiled,
    truncated,
    turned,
    where_over,
)

WIDTHS = (1, 2, 4, 8, 16)
RNG = np.random.default_rng(61)


@njit
def every(stride, a, b, c, out):
    """Write the result of each operation, one after the other."""
    L = len(stride)
    x, y, z = load(stride, a, 0), load(stride, b, 0), load(stride, c, 0)
    results = (
        x + y, x - y, x * y, fused(x, y, z), smaller(x, y), larger(x, y), where_over(x, y, z, x), size(x), inverse(y), truncated(x),
        exponent(size(x)), mantissa(size(x)), power_of_two(truncated(x)), root(size(x)), splat(stride, np.float32(2.5)),
    )  # fmt: skip
    at = 0
    for each in results:
        store(out, at, each)
        at += L


def expected(a, b, c) -> np.ndarray:
    """The same with NumPy; a * b + c in double precision, rounded once, which float32 products allow."""
    power, whole = np.frexp(np.abs(a))[1] - 1, np.trunc(a)
    return np.concatenate(
        [
            a + b, a - b, a * b, (a.astype(np.float64) * b + c).astype(np.float32), np.minimum(a, b), np.maximum(a, b), np.where(a > b, c, a),
            np.abs(a), np.float32(1.0) / b, whole, power.astype(np.float32), np.abs(a) / np.exp2(power), np.exp2(whole), np.sqrt(np.abs(a)),
            np.full(a.size, 2.5),
        ]
    ).astype(np.float32)  # fmt: skip


class TestOperators:
    """Against NumPy's float32."""

    @pytest.mark.parametrize("width", WIDTHS)
    def test_each(self, width):
        """Exactly, in every lane."""
        a, b, c = (RNG.uniform(-30, 30, width).astype(np.float32) for _ in range(3))
        out = np.zeros(15 * width, np.float32)
        every((None,) * width, a, b, c, out)
        assert np.array_equal(out, expected(a, b, c))

    def test_lanes_are_told_apart_by_their_number(self):
        """Two widths are two types."""
        assert lanes.Lanes(4) == lanes.Lanes(4)
        assert lanes.Lanes(4) != lanes.Lanes(8)

    def test_store_24(self):
        """Three bytes of each lane at any byte, little end first; the next four cover what was too much."""

        @njit
        def write(values, out):
            for i in range(2):
                store_24(out, 1 + 12 * i, load((None,) * 4, values, 4 * i))

        numbers, out = RNG.integers(-(2**23), 2**23, 8).astype(np.int32), np.zeros(30, np.uint8)
        write(numbers.view(np.float32), out)
        assert out[1:25].tobytes() == b"".join(int(n).to_bytes(3, "little", signed=True) for n in numbers)
        assert out[0] == out[29] == 0

    def test_turns(self):
        """Rows and lanes exchanged, of four rows and of two; lanes in turn, and apart again; lanes repeated."""

        @njit
        def turn(x, out):
            a, b = load((None,) * 4, x, 0), load((None,) * 4, x, 4)
            rows = turned(a, b, load((None,) * 4, x, 8), load((None,) * 4, x, 12))
            rows = (*rows, *paired(a, b), swapped(a))
            for k in range(7):
                store(out, 4 * k, rows[k])
            store(out, 28, tiled((None,) * 8, a))

        x, out = np.arange(16, dtype=np.float32), np.zeros(36, np.float32)
        turn(x, out)
        assert np.array_equal(out[:16].reshape(4, 4), x.reshape(4, 4).T)
        assert out[16:24].tolist() == [0, 1, 4, 5, 2, 3, 6, 7]
        assert out[24:28].tolist() == [1, 0, 3, 2]
        assert out[28:].tolist() == [0, 1, 2, 3, 0, 1, 2, 3]

    def test_load_one(self):
        """A single value in all lanes."""

        @njit
        def read(x, out):
            store(out, 0, load_one((None,) * 4, x, 2))

        out = np.zeros(4, np.float32)
        read(np.arange(5, dtype=np.float32), out)
        assert out.tolist() == [2, 2, 2, 2]


class TestLogarithms:
    """Polynomials of lanes, within the bounds that the kernels' docstring states."""

    @pytest.mark.parametrize("width", [4, 16])
    def test_bounds(self, width):
        """log2 within 2e-5, exp2 within 1e-5 relative, and 2 to the 0 is 1."""

        @njit
        def both(stride, x, logs, powers):
            for at in range(0, x.size, len(stride)):
                store(logs, at, _arithmetic.lanes_log2(stride, size(load(stride, x, at))))
                store(powers, at, _arithmetic.lanes_exp2(stride, load(stride, x, at)))

        x = RNG.uniform(-50, 50, 64 * width).astype(np.float32)
        x[:width] = 0.0
        logs, powers = np.zeros_like(x), np.zeros_like(x)
        both((None,) * width, x, logs, powers)
        assert np.abs(logs[width:] - np.log2(np.abs(x[width:].astype(float)))).max() < 2e-5
        assert np.abs(powers / np.exp2(x.astype(float)) - 1.0).max() < 1e-5
        assert np.all(powers[:width] == 1.0)


class TestSections:
    """Cascades of any depth: how many sections run side by side changes nothing."""

    @pytest.mark.parametrize("depth", range(1, 10))
    def test_any_depth(self, depth):
        """As one section after the other, exactly; also in pieces of a sample or two."""
        width, rows = 4, 400
        bells = [[bell(60.0 * 2**k, 3.0 + lane, 1.0, 48_000) for k in range(depth)] for lane in range(width)]
        params = Filters(bells, width).params
        x = RNG.standard_normal(rows * width).astype(np.float32)
        whole, one, pieces = x.copy(), x.copy(), x.copy()
        cascade = _filters.BANKS[width].svf_cascade
        cascade(whole, depth, params, np.zeros(depth * 2 * width, np.float32))
        for number in range(depth):
            mine = params[number * 6 * width : (number + 1) * 6 * width]
            cascade(one, 1, mine, np.zeros(2 * width, np.float32))
        state = np.zeros(depth * 2 * width, np.float32)
        ends = np.cumsum([0, 1, 2, 2, 1, 3, 100, 291])
        for first, last in pairwise(ends):
            cascade(pieces[first * width : last * width], depth, params, state)
        assert np.array_equal(whole, one)
        assert np.array_equal(whole, pieces)
