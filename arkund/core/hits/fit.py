"""How much better the sound of all mics is explained with a stroke than without it: whether there was one, and when exactly.

Around a candidate the power of every mic and band is what rang before, plus what the other likely strokes leave there by their prints, and, with the stroke,
its own print at its likeliest strength. Power that is the sum of many small independent waves is gamma distributed around its mean, so that the two
explanations differ in log-likelihood by d (log(m0 / m1) + x / m0 - x / m1) in each cell, d the distribution's shape: the Itakura-Saito divergence.

References
    C. Févotte, N. Bertin, J.-L. Durrieu, Nonnegative matrix factorization with the Itakura-Saito divergence (2009): likelihood and multiplicative step.
"""

import numpy as np

from arkund.core.beside import by_slices
from arkund.core.hits import _fit
from arkund.core.hits.prints import Prints

MEASURES = _fit.MEASURES


def fits(
    power: np.ndarray, prints: Prints, frames, pieces, sure, kept, asked, height: np.ndarray, mic_piece: np.ndarray
) -> np.ndarray:
    """Return MEASURES of how much a stroke explains at the candidates asked about [float32, shape=(asked, MEASURES)].

    power : [shape=(frames, mics, bands)]; frames, pieces, sure (0..1), kept (bool), height : one value per candidate; asked : numbers in order of time
    """
    out, total = np.zeros((asked.size, MEASURES), np.float32), np.zeros(asked.size)
    likely, shape = np.flatnonzero(kept), np.ascontiguousarray(prints.shape.transpose(0, 2, 3, 1))

    def fill(part: slice) -> None:
        _fit.fits(
            power, shape, frames, pieces, asked[part], sure, likely, height, prints.learnt, prints.full,
            mic_piece, out[part], total[part],
        )  # fmt: skip

    by_slices(fill, asked.size)
    _fit.leads(frames, pieces, asked, total, out[:, -1])
    return out
