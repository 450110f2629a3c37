"""The compiled walk through decision trees. Private and unchecked: see ``trees``."""

from numba import njit

OPTIONS = {"nogil": True, "cache": True, "error_model": "numpy", "boundscheck": False}


@njit(**OPTIONS)
def tree_sums(x, roots, feature, threshold, left, right, value, out):
    """Add up what each tree says of each row; a leaf has feature -1."""
    for row in range(x.shape[0]):
        total = 0.0
        for root in roots:
            node = root
            while feature[node] >= 0:
                node = left[node] if x[row, feature[node]] <= threshold[node] else right[node]
            total += value[node]
        out[row] = total
