"""Section gains and clipped tops against what was planted."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.level.process import LONGEST_MS, repaired, runs, stepped
from tests.kits import small_kit

RATE = 48_000


def hot(seed, mic, over):
    """Hits above full scale, as they were before the converter cut them."""
    audio = small_kit(seed=seed, style="straight", bpm=110.0, bars=4).audio[mic].astype(np.float64)
    return (audio / np.abs(audio).max() * over).astype(np.float32)


@pytest.fixture(scope="module")
def snare():
    return hot(951, "SN top", 1.3)


class TestStepped:
    """A gain that holds from a place on."""

    steps = (0.0, ((10_000, 2880, 6.0), (30_000, 2880, -3.0)))

    def test_levels(self):
        """Reached at the step, and no jump on the way."""
        out = stepped(np.ones(40_000, np.float32), *self.steps, 0)
        assert out[0] == 1.0
        assert out[[10_000, 25_000, 30_000, 39_999]] == pytest.approx([1.995, 1.995, 0.708, 0.708], abs=0.001)
        assert np.abs(np.diff(out)).max() < 0.001

    def test_any_span_is_the_same(self):
        """Read in pieces as well as whole."""
        whole = stepped(np.ones(40_000, np.float32), *self.steps, 0)
        for start, stop in ((0, 500), (8000, 11_000), (28_000, 40_000)):
            part = stepped(np.ones(stop - start, np.float32), *self.steps, start)
            assert np.array_equal(part, whole[start:stop])


class TestRepaired:
    """Short flat tops drawn anew."""

    @pytest.mark.parametrize(
        ("seed", "mic", "over", "most"), [(952, "KD in", 1.3, 0.6), (953, "T1", 1.25, 0.8), (955, "SN top", 1.15, 0.8)]
    )
    def test_nearer_to_what_was_played(self, seed, mic, over, most):
        """The error over the short tops falls to ``most`` of what the flat tops have; every drawn sample is at least at full scale."""
        played = hot(seed, mic, over)
        cut = np.clip(played, -1.0, 1.0)
        out = repaired(ArrayMic(cut).read, RATE)(0, cut.size)
        short = np.zeros(cut.size, bool)
        for first, end in runs(cut):
            short[first:end] = end - first <= LONGEST_MS / 1000 * RATE
        assert short.any()
        before, after = (np.sqrt(np.mean((x[short] - played[short]) ** 2)) for x in (cut, out))
        assert after < most * before
        assert np.all(np.abs(out[short]) >= 0.999)

    def test_all_else_stays(self, snare):
        """To the sample, longer tops included."""
        cut = np.clip(snare, -1.0, 1.0)
        cut[5000:5100] = 1.0
        out = repaired(ArrayMic(cut).read, RATE)(0, cut.size)
        kept = np.ones(cut.size, bool)
        for first, end in runs(cut):
            kept[first:end] = end - first > LONGEST_MS / 1000 * RATE
        assert np.array_equal(out[kept], cut[kept])
        assert np.all(out[5000:5100] == 1.0)

    def test_any_span_is_the_same(self, snare):
        """Also where it begins within a top."""
        read = repaired(ArrayMic(np.clip(snare, -1.0, 1.0)).read, RATE)
        whole = read(0, snare.size)
        first = runs(np.clip(snare, -1.0, 1.0))[0][0]
        for start, stop in ((first + 2, first + 400), (first - 300, first + 3), (70_000, 90_000)):
            assert np.array_equal(read(start, stop), whole[start:stop])
