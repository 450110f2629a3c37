"""The kits that the hit judge is taught on."""

import numpy as np
import pytest

from arkund.core.hits import evidence
from arkund.core.hits.bands import measure_bands
from tools.strange_kits import strange_kit

pytestmark = pytest.mark.long  # what only teaching the judge needs


class TestStrangeKit:
    """Whatever their number, they are whole takes with their truth."""

    @pytest.fixture(scope="class")
    def kit(self):
        return strange_kit(9002)

    def test_the_same_again(self, kit):
        """A number always gives the same kit, another number another."""
        again, other = strange_kit(9002), strange_kit(9004)
        assert np.array_equal(kit.readers[0].read(0, 200_000), again.readers[0].read(0, 200_000))
        assert [h.time_s for h in kit.truth["kick"]] == [h.time_s for h in again.truth["kick"]]
        assert [h.time_s for h in kit.truth["kick"]] != [h.time_s for h in other.truth["kick"]]

    def test_strokes_sound_where_the_truth_says(self, kit):
        """The power in the own mic rises within 3 ms of nearly every strong stroke."""
        bands = measure_bands(kit.readers, kit.sample_rate_hz)
        s = evidence.scene(bands, kit.channels)
        assert len(kit.readers) == len(kit.channels)
        near = []
        for number, name in enumerate(s.names):
            frames = s.frames[s.pieces == number]
            near += [np.min(np.abs(frames - h.time_s * 1000)) <= 3 for h in kit.truth.get(name, []) if h.level_db > -8]
        assert np.mean(near) > 0.95
