"""The compiled walk through decision trees. Private and unchecked: see ``trees``."""

from numba import njit

from arkund.core.dsp.compiled import PLAIN as OPTIONS

ROWS = 64  # that go through a tree while its nodes are in the processor's cache


@njit(**OPTIONS)
def tree_sums(x, roots, feature, threshold, left, right, value, out):
    """Add up what each tree says of each row; a leaf has feature -1.

    Four rows go down at a time, so that none waits for the others' memory. What is asked is read before it is decided where to go, which the compiler
    makes choices of values of; as a function of its own it became branches, four times slower.
    """
    for start in range(0, x.shape[0], ROWS):
        stop = min(start + ROWS, x.shape[0])
        fours = start + (stop - start) // 4 * 4
        out[start:stop] = 0.0
        for root in roots:
            for row in range(start, fours, 4):
                a = b = c = d = root
                while True:
                    fa, fb, fc, fd = feature[a], feature[b], feature[c], feature[d]
                    if fa < 0 and fb < 0 and fc < 0 and fd < 0:
                        break
                    to_a = left[a] if x[row, max(fa, 0)] <= threshold[a] else right[a]
                    to_b = left[b] if x[row + 1, max(fb, 0)] <= threshold[b] else right[b]
                    to_c = left[c] if x[row + 2, max(fc, 0)] <= threshold[c] else right[c]
                    to_d = left[d] if x[row + 3, max(fd, 0)] <= threshold[d] else right[d]
                    a, b = (to_a if fa >= 0 else a), (to_b if fb >= 0 else b)
                    c, d = (to_c if fc >= 0 else c), (to_d if fd >= 0 else d)
                out[row] += value[a]
                out[row + 1] += value[b]
                out[row + 2] += value[c]
                out[row + 3] += value[d]
            for row in range(fours, stop):
                node = root
                while feature[node] >= 0:
                    node = left[node] if x[row, feature[node]] <= threshold[node] else right[node]
                out[row] += value[node]
