"""What clips, by closed forms."""

import numpy as np
import pytest

from arkund.core.card.clipping import clipping, loudest_db, taken_db
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.grit import Grit
from arkund.core.tools.limiter import Limiter

RATE, TIMES = 48_000, [0.2 * k + 0.1 for k in range(20)]


def hits(peaks) -> np.ndarray:
    """Return bursts of 10 ms with peaks of so much, float32 [shape=(samples, 1)]."""
    x, wave = np.zeros((round(4.2 * RATE), 1), np.float32), np.sin(2 * np.pi * 1000.0 * np.arange(480) / RATE)
    for at, peak in zip(TIMES, peaks, strict=True):
        x[round(at * RATE) :][:480, 0] = peak * wave
    return x


class TestTaken:
    """The peak before a tool against the one behind it."""

    @pytest.mark.parametrize("tool", [Grit(on=True), Limiter(on=True)])
    def test_cut_at_a_level(self, tool):
        """What stands above it, hit by hit; the tool's own gain is none of it."""
        peaks = np.linspace(0.2, 0.8, 20)
        before = hits(peaks)
        tool = tool.replace(output_db=-3.0) if tool.kind == "grit" else tool
        after = np.clip(before, -0.5, 0.5) * (10 ** (-3.0 / 20) if tool.kind == "grit" else 1.0)
        found = taken_db([before, after], [tool], TIMES, RATE)
        assert found == pytest.approx(np.maximum(20 * np.log10(peaks / 0.5), 0.0), abs=0.01)

    def test_compressors_are_none(self):
        """They are judged by what they do over time; two clippers in a row add up."""
        before = hits([0.8] * 20)
        row = [before, before / 2.0, before / 4.0, before / 8.0]
        tools = [Compressor(on=True), Grit(on=True), Grit(id="grit-2", on=True)]
        assert taken_db(row, tools, TIMES, RATE) == pytest.approx(np.full(20, 12.04), abs=0.01)

    def test_hits_at_the_edges(self):
        """Nothing is taken off one that is not there as a whole."""
        before = hits([0.8] * 20)
        assert taken_db([before, before / 2.0], [Grit(on=True)], [0.0, 4.199], RATE) == pytest.approx([0.0, 0.0])


class TestClipping:
    """Over all hits."""

    def test_median_and_loudest_tenth(self):
        """Of each drum by itself, the worse one counts; too few hits tell nothing."""
        found = clipping(
            {"kick": np.array([0.0, 0.0, 0.0, 0.0, 5.0]), "snare": np.array([1.0, 1.0, 1.0]), "tom": np.array([9.0])}
        )
        assert found == {"clip_usual": 1.0, "clip_loudest": pytest.approx(3.0)}
        assert clipping({"kick": np.array([9.0])}) == {"clip_usual": None, "clip_loudest": None}

    def test_loudest(self):
        """The level that a tenth of the hits passes."""
        assert loudest_db(hits([0.1] * 18 + [1.0] * 2), TIMES, RATE) == pytest.approx(-18.0, abs=0.3)
        assert loudest_db(hits([0.1] * 20), TIMES[:2], RATE) is None
