"""How much a stroke explains, against the gamma distribution of another library and against planted strokes."""

import numpy as np
import pytest
from scipy import stats

from arkund.core.hits import _fit, _kernels, fit
from arkund.core.hits.bands import BANDS
from arkund.core.hits.prints import Prints

SHAPE = np.exp(-np.arange(_kernels.AFTER) / 10.0)
LIKENESS, STRENGTH_DB, LEAD = 2 * _fit.GROUPS, 2 * _fit.GROUPS + 1, 2 * _fit.GROUPS + 2


def known(mic_shares: np.ndarray) -> Prints:
    """Return prints of pieces that decay alike, with a power in each mic and band [shape=(pieces, mics, bands)]."""
    count, mics, bands = mic_shares.shape
    shape = np.zeros((count, _kernels.BEFORE + _kernels.AFTER, mics, bands), np.float32)
    shape[:, _kernels.BEFORE :] = SHAPE[None, :, None, None] * mic_shares[:, None]
    ones = np.ones(count)
    return Prints(shape, 8 * ones, 8 * ones, ones, ones)


def fitted(power, prints, candidates, likely=()) -> np.ndarray:
    """Return the measures of candidates (piece, frame, height), of which some (by number) are sure strokes."""
    pieces, frames, height = (np.array(column) for column in zip(*candidates, strict=True))
    kept = np.isin(np.arange(frames.size), likely)
    asked, mics = np.arange(frames.size), np.arange(power.shape[1])
    return fit.fits(power, prints, frames, pieces, kept * 1.0, kept, asked, height.astype(float), mics)


def ringing(rng, strokes, prints, level=1e-3, frames=400) -> np.ndarray:
    """Return gamma-distributed power of strokes (piece, frame, strength) over a steady rest."""
    mean = np.full((frames, *prints.shape.shape[2:]), level)
    for piece, at, strength in strokes:
        mean[at : at + _kernels.AFTER] += strength * prints.shape[piece, _kernels.BEFORE :]
    return (mean * rng.gamma(2.0, 0.5, mean.shape)).astype(np.float32)


class TestLikelihood:
    """The number itself."""

    def test_against_the_gamma_distribution(self):
        """The difference of log-likelihoods over all cells in which the stroke is heard, by scipy."""
        rng, prints = np.random.default_rng(11), known(np.full((1, 2, BANDS), 0.5))
        power = ringing(rng, [(0, 200, 0.02)], prints).astype(np.float64).astype(np.float32)
        (found,) = fitted(power, prints, [(0, 200, 0.02)])
        strength = 10 ** (found[STRENGTH_DB] / 10)
        heard = power[198:224].astype(float) + _kernels.TINY
        rest = power[176:192].astype(float).mean(axis=0) + _kernels.TINY
        stroke = strength * prints.shape[0, :26]
        d = np.array(_fit.SHAPES)
        wanted = stats.gamma.logpdf(heard, d, scale=(rest + stroke) / d) - stats.gamma.logpdf(heard, d, scale=rest / d)
        assert found[LIKENESS] == pytest.approx(wanted.sum(), rel=1e-3)

    def test_strength(self):
        """The likeliest strength is found from a start that is 6 dB off, within the spread of such noise."""
        prints = known(np.full((1, 4, BANDS), 0.5))
        found = [
            fitted(ringing(np.random.default_rng(seed), [(0, 200, 0.01)], prints, 1e-5), prints, [(0, 200, 0.04)])[
                0, STRENGTH_DB
            ]
            for seed in range(12)
        ]
        assert np.mean(found) == pytest.approx(-20.0, abs=0.7)


class TestPlace:
    """When a stroke was, and whether."""

    SHARES = np.stack([np.full((3, BANDS), 0.5), np.full((3, BANDS), 0.3)])

    def test_the_true_place_wins(self):
        """Of candidates 7 ms apart the true one explains most, though the stroke is no louder than the rest: in nine of ten recordings."""
        prints, right = known(self.SHARES), 0
        for seed in range(20):
            power = ringing(np.random.default_rng(seed), [(0, 207, 2e-3)], prints)
            lead = fitted(power, prints, [(0, frame, 2e-3) for frame in (193, 200, 207, 214, 221)])[:, LEAD]
            right += np.argmax(lead) == 2 and lead[2] > 0
        assert right >= 18

    def test_bleed_needs_no_stroke(self):
        """Where another piece's sure stroke accounts for all, a stroke explains next to nothing; where one is added, it explains a lot."""
        rng = np.random.default_rng(3)
        shares = np.zeros((2, 2, BANDS))
        shares[0, :, :4], shares[1, :, 2:] = 0.5, 0.5
        prints = known(shares)
        alone = ringing(rng, [(0, 200, 1.0)], prints)
        both = ringing(rng, [(0, 200, 1.0), (1, 204, 0.3)], prints)
        ask = [(0, 200, 1.0), (1, 204, 0.3)]
        nothing, stroke = (fitted(power, prints, ask, likely=(0,))[1, LIKENESS] for power in (alone, both))
        assert stroke > 20 * max(nothing, 1.0)

    def test_what_is_not_known(self):
        """A piece without a print, or a place at the song's edge, is left open."""
        prints = known(self.SHARES)
        prints.learnt[1] = 0
        power = ringing(np.random.default_rng(1), [], prints)
        found = fitted(power, prints, [(0, 10, 0.1), (1, 200, 0.1), (0, 395, 0.1)])
        assert (found[:, LIKENESS] == _kernels.NOT_THERE).all()
