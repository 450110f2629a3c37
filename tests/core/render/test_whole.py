"""The peak of all mics together, as recorded."""

import numpy as np
import pytest

from arkund.core.files.audio import ArrayMic
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.render.whole import recorded_peak_db

RATE = 48_000


class TwoMics:
    """A peak in both mics at the same sample, late in the song."""

    sample_rate_hz = RATE

    def mic(self, take, mic_id):
        x = np.zeros(25 * RATE, np.float32)
        x[23 * RATE] = {"a": -0.3, "b": -0.2}[mic_id]
        return ArrayMic(x)

    def content(self, take, mic_id):
        return mic_id

    def length(self, take):
        return 25 * RATE


class TestRecordedPeak:
    """Wherever in the song it is."""

    @pytest.mark.parametrize(("trim_db", "mute", "peak"), [(0.0, False, 0.5), (6.0206, False, 0.8), (0.0, True, 0.3)])
    def test_sum(self, trim_db, mute, peak):
        """Both on the left add up; a trim counts, a muted mic does not."""
        mics = (
            MicPlan(id="a", name="a", pan=-1.0, trim_db=trim_db),
            MicPlan(id="b", name="b", pan=-1.0, mute=mute),
        )
        assert recorded_peak_db(Plan(mics=mics), TwoMics()) == pytest.approx(20 * np.log10(peak), abs=0.01)
