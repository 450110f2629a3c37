"""Settings that are solved for: measured by themselves on struck drums, they give what was wanted."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.hits.resolve import Hit
from arkund.core.plan.plan import MicPlan
from arkund.core.punch.measure import hits_before, taken, threshold_taking
from arkund.core.punch.propose import WANTED, first_settings, propose
from arkund.core.punch.solve import SHORTEST_MS, UNREACHED_MS, Solved, Wanted, attack_for, compressor_for
from tests.core.tools.test_compressor import gain_db
from tests.core.tools.test_shaper import AT, change_db, struck
from tests.stages import RATE


def beats(piece: str, seed: int, gap_s: float) -> tuple[np.ndarray, list[Hit]]:
    """Return eight strokes of a drum, the same time apart, and where they are."""
    each = round(gap_s * RATE)
    x = np.zeros(8 * each + RATE, np.float32)
    stroke = struck(piece, seed, -6.0)[AT:]
    for k in range(8):
        part = x[AT + k * each :][: stroke.size]
        part += stroke[: part.size]
    return x, [Hit(piece, (AT + k * each) / RATE, -6.0, 120, False) for k in range(8)]


class TestCompressorFor:
    """Threshold and release by what is taken and what is left."""

    @pytest.mark.parametrize(("piece", "seed"), [("kick", 8101), ("snare", 8102), ("tom1", 8103), ("floor", 8104)])
    @pytest.mark.parametrize(("reduction_db", "gap_s"), [(3.0, 0.4), (6.0, 0.75)])
    def test_reached(self, piece, seed, reduction_db, gap_s):
        """Rendered as a whole: within 0.3 dB at the deepest, and no more than half a dB is left at the next stroke; a release a quarter longer leaves more."""
        x, hits = beats(piece, seed, gap_s)
        wanted = Wanted(reduction_db=reduction_db, left_db=0.5)
        heard = hits_before(lambda a, b: x[a:b], hits, gap_s, RATE)
        found = compressor_for(
            heard, first_settings(MicPlan(id="m", name="M", piece=piece, role="close"))[1], wanted, RATE
        )
        gain = gain_db(x, found)
        ats = [round(h.time_s * RATE) for h in hits[1:-1]]
        deepest = np.median([-gain[at : at + RATE // 8].min() for at in ats])
        left = np.median([-gain[at + round(gap_s * RATE) - 2] for at in ats])
        assert deepest == pytest.approx(reduction_db, abs=0.3)
        assert left <= 0.6
        assert taken(heard, found.replace(release_ms=1.25 * found.release_ms), RATE).left_db > 0.5

    def test_no_release_is_short_enough(self):
        """Where the next stroke comes before any of them has recovered, a usual short one is left, never the very shortest."""
        x, hits = beats("floor", 8105, 0.09)
        heard = hits_before(lambda a, b: x[a:b], hits, 0.09, RATE)
        found = compressor_for(
            heard,
            first_settings(MicPlan(id="f", name="F", piece="floor", role="close"))[1],
            Wanted(reduction_db=6.0, left_db=0.1),
            RATE,
        )
        assert found.release_ms == UNREACHED_MS > SHORTEST_MS


class TestThresholdTaking:
    """The place on any falling curve."""

    @pytest.mark.parametrize(
        "taken_db", [lambda t: max(-t - 20.0, 0.0) * 0.75, lambda t: (t / 15.0) ** 4, lambda t: 30.0 * (t < -31.3)]
    )
    def test_found(self, taken_db):
        """As near as its step allows: by slope, on a steep curve, and at a jump."""
        at = threshold_taking(taken_db, 4.0)
        assert taken_db(at - 0.2) >= 4.0 >= taken_db(at + 0.2)

    def test_where_so_much_is_never_taken(self):
        """The lowest."""
        assert threshold_taking(lambda t: 0.0, 4.0) == pytest.approx(-60.0, abs=0.2)


class TestAttackFor:
    """The shaper's attack by what the average hit shows."""

    @pytest.mark.parametrize(("piece", "seed"), [("kick", 8111), ("snare", 8112), ("tom2", 8113)])
    @pytest.mark.parametrize("wanted_db", [2.0, 5.0])
    def test_reached(self, piece, seed, wanted_db):
        """Within half a dB on struck drums."""
        x = struck(piece, seed, -10.0)

        def changed_db(attack_db: float) -> float:
            attack, body = change_db(x, attack_db=attack_db)
            return attack - body

        assert changed_db(attack_for(changed_db, wanted_db)) == pytest.approx(wanted_db, abs=0.5)

    def test_no_more_than_helps(self):
        """Where what follows takes everything back, it stays low."""
        assert attack_for(lambda attack_db: 0.01 * attack_db, 3.0) == 0.0


class TestWanted:
    """What may be asked."""

    @pytest.mark.parametrize(
        ("asked", "words"),
        [
            ({}, "nothing is asked for"),
            ({"reduction_db": 31.0}, "reduction: 31 dB is outside 0 to 30 dB"),
            ({"left_db": 0.0}, "recovered: 0 dB is outside"),
            ({"attack_db": float("nan")}, "attack: nan dB is outside"),
        ],
    )
    def test_refused(self, asked, words):
        """With what it may be."""
        with pytest.raises(SettingsError, match=words):
            Wanted(**asked)


def test_what_would_not_be_heard_is_left_out():
    """Less than half a dB of both is no note."""
    mic = MicPlan(id="s", name="S", piece="snare", role="top")
    solved = Solved(
        "t", {}, WANTED["punchy"].words, "r", "c", {"attack": 0.3, "reduction": 0.2, "recovered": 0.0}, True
    )
    assert propose(mic, solved) is None
