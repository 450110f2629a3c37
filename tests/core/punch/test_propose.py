"""Envelopes of hits, and the settings that follow from what a compressor really takes."""

import numpy as np
import pytest

from arkund.core.hits.resolve import Hit
from arkund.core.plan.plan import MicPlan
from arkund.core.punch.measure import attack_and_body_db, average_envelope, hits_before, taken, threshold_for_hits
from arkund.core.punch.propose import first_settings, propose, propose_tuck
from arkund.core.punch.solve import Solved, at_end
from arkund.core.tools.compressor import Compressor, static_reduction_db
from arkund.core.tools.shaper import Shaper
from tests.core.tools.test_compressor import gain_db
from tests.core.tools.test_shaper import AT, struck
from tests.stages import RATE


class TestMeasureAndPropose:
    """Envelopes of real hits and the settings that follow."""

    def test_average_envelope(self, straight):
        """The peak of the average lies within 5 ms after the hit."""
        found = average_envelope(straight.readers["SN top"].read, straight.hits["snare"], RATE)
        at = found.time_ms[int(np.argmax(found.level_db))]
        assert -1.0 <= at <= 6.0
        attack, body = attack_and_body_db(found)
        assert attack > body + 3

    def test_cymbals_are_left(self):
        """No compressor for a hat at first choice."""
        assert first_settings(MicPlan(id="h", name="H", piece="hihat", role="spot")) is None

    @pytest.mark.parametrize(
        ("attack_db", "threshold_db", "far"),
        [(3.0, -24.0, False), (-15.0, -24.0, True), (15.0, -24.0, True), (3.0, -60.0, True), (14.5, -59.5, False)],
    )
    def test_no_note_at_the_end_of_a_range(self, attack_db, threshold_db, far):
        """What only an attack as far as it goes, or a threshold under all that sounds would reach, is none to be proposed."""
        ends = at_end(Shaper(attack_db=attack_db), Compressor(threshold_db=threshold_db))
        assert ends == far
        solved = Solved("t", {"a": 1}, "", "", "", {"attack": 3.0, "reduction": 4.0}, False, ends)
        mic = MicPlan(id="m", name="M", piece="kick", role="in")
        assert (propose(mic, solved) is None) == far
        assert (propose_tuck("overheads", solved) is None) == far

    @pytest.mark.parametrize("piece", ["kick", "snare", "floor"])
    def test_the_threshold_takes_what_is_wanted(self, piece):
        """Whatever the attack lets through: rendered, the usual hit loses 4 dB at its deepest."""
        x = np.tile(struck(piece, 471, -6.0)[: RATE // 2], 8)
        hits = [Hit(piece, (AT + k * RATE // 2) / RATE, -6.0, 120, False) for k in range(1, 7)]
        read = lambda a, b: x[a:b]
        mic = MicPlan(id="m", name="M", piece=piece, role="close")
        _, compressor = first_settings(mic)
        heard = hits_before(read, hits, 0.5, RATE)
        compressor = compressor.replace(threshold_db=threshold_for_hits(heard, compressor, 4.0, RATE))
        gain = gain_db(x, compressor.replace(makeup_db=0.0))
        deepest = [-gain[round(h.time_s * RATE) :][: RATE // 8].min() for h in hits]
        assert np.median(deepest) == pytest.approx(4.0, abs=0.25)
        found = taken(heard, compressor, RATE)
        assert found.deepest_db == pytest.approx(4.0, abs=0.15)

    def test_less_than_the_curve(self):
        """A steady tone of 100 Hz loses less than the curve says, and what is told is what is lost."""
        x = (0.5 * np.sin(2 * np.pi * 100 * np.arange(RATE) / RATE)).astype(np.float32)
        s = Compressor(on=True, threshold_db=-18.0, ratio=4.0, attack_ms=25.0, release_ms=50.0)
        told = taken([x], s, RATE)
        assert told.left_db == pytest.approx(-gain_db(x, s)[-1], abs=0.01)
        assert told.left_db < float(static_reduction_db(-6.02, s)) - 1.0

    def test_nothing_played(self):
        """Takes nothing."""
        assert taken([], Compressor(), RATE).deepest_db == 0.0
