"""Dialling in a compressor: every version takes what its stage wants, and what is told of it is what it does."""

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.hits.resolve import Hit
from arkund.core.punch.dialling import FIRST, NOTES, STAGES, attack_change_db, begun, made_up, stage_of, versions
from arkund.core.punch.measure import attack_and_body_db, average_envelope, hits_before, in_band, over_bars
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.tool import Key
from tests.core.punch.test_solve import beats
from tests.core.tools.test_compressor import gain_db
from tests.stages import RATE


def heard_of(piece: str, seed: int, gap_s: float) -> tuple[np.ndarray, list[Hit], list[np.ndarray]]:
    x, hits = beats(piece, seed, gap_s)
    return x, hits, hits_before(lambda a, b: x[a:b], hits, gap_s, RATE)


class TestVersions:
    """What is compared differs in one thing alone."""

    @pytest.mark.parametrize("school", list(STAGES))
    def test_every_stage(self, school):
        """From the first to the last: each takes what is wanted within 0.3 dB where it can, and only the stage's setting and the threshold differ."""
        _, _, heard = heard_of("snare", 8301, 0.6)
        now = begun(Compressor(knee_db=5.0, key=Key(low_hz=90.0)), school)
        for number, stage in enumerate(STAGES[school]):
            found = versions(stage_of(school, number), now, heard, RATE)
            assert len(found) == len(stage.values)
            for version, value in zip(found, stage.values, strict=True):
                wanted = value if stage.reduction_db is None else stage.reduction_db
                assert version.taken_db == pytest.approx(wanted, abs=0.3), (stage.key, version.words)
                same = {"threshold_db": 0.0} | ({} if stage.reduction_db is None else {stage.setting: 20.0})
                assert version.settings.replace(**same) == now.replace(**same)
            now = found[-1].settings
        assert now.knee_db == 5.0

    def test_slower_attacks_leave_more_of_the_stroke(self):
        """Attack against body rises with the attack from the fastest on; longer releases leave more at the next hit."""
        _, _, heard = heard_of("snare", 8302, 0.6)
        first, second = (stage_of("times", n) for n in (0, 1))
        attacks = [v.attack_db for v in versions(first, begun(Compressor(), "times"), heard, RATE)]
        assert min(attacks[1:]) > attacks[0] + 2.0
        left = [v.left_db for v in versions(second, begun(Compressor(), "times"), heard, RATE)]
        assert left == sorted(left)
        assert left[-1] > left[0] + 1.0

    def test_note_values(self):
        """At 120 an eighth is 250 ms; what is longer than a release may be is not offered."""
        _, _, heard = heard_of("kick", 8303, 0.5)
        found = versions(stage_of("times", 1), begun(Compressor(), "times"), heard, RATE, NOTES, 120.0)
        assert [v.words for v in found] == [
            "1/16, 125 ms",
            "1/8, 250 ms",
            "1/4, 500 ms",
            "1/2, 1000 ms",
            "1/1, 2000 ms",
        ]
        assert [each.settings.release_by for each in found] == [each.words.partition(",")[0] for each in found]
        slow = versions(stage_of("times", 1), begun(Compressor(), "times"), heard, RATE, NOTES, 60.0)
        assert [v.settings.release_ms for v in slow] == [250.0, 500.0, 1000.0, 2000.0]

    def test_no_hits(self):
        """Versions all the same, that take nothing."""
        found = versions(stage_of("times", 0), begun(Compressor(), "times"), [], RATE)
        assert [v.taken_db for v in found] == [0.0, 0.0, 0.0]

    def test_refused(self):
        """Schools and stages that are none."""
        with pytest.raises(SettingsError, match="expected one of times, fastest"):
            begun(Compressor(), "slow")
        with pytest.raises(SettingsError, match="stages 0 to 3, got 4"):
            stage_of("times", 4)
        assert set(FIRST) == set(STAGES)


class TestFigures:
    """What is told is what a rendering shows."""

    @pytest.mark.parametrize("attack_ms", [1.0, 30.0])
    def test_attack_against_body(self, attack_ms):
        """As the envelopes of the whole signal say it, within 0.7 dB."""
        x, hits, heard = heard_of("snare", 8304, 0.6)
        s = Compressor(on=True, threshold_db=-26.0, ratio=6.0, attack_ms=attack_ms, release_ms=150.0)
        after = (x * 10 ** (gain_db(x, s) / 20)).astype(np.float32)
        (a, b), (c, d) = (
            attack_and_body_db(average_envelope(lambda i, j, y=y: y[max(i, 0) : j], hits[1:-1], RATE))
            for y in (x, after)
        )
        assert attack_change_db(heard, s, RATE) == pytest.approx((c - d) - (a - b), abs=0.7)

    def test_over_two_bars(self):
        """The reduction is the gain that the compressor has, at each hit what it has just before; level and hits are where they are."""
        x, hits, _ = heard_of("kick", 8305, 0.5)
        s = Compressor(on=True, threshold_db=-24.0, ratio=4.0, release_ms=300.0)
        first = round(hits[2].time_s * RATE) - 100
        both = x[first - RATE :, None]
        found = over_bars(both, both, s, [round(h.time_s * RATE) - first for h in hits], RATE)
        gain = gain_db(x, s)
        assert found.hits_ms[:2] == pytest.approx([100 / 48.0, 100 / 48.0 + 500.0], abs=0.1)
        at = round(hits[3].time_s * RATE)
        assert found.left_db[1] == pytest.approx(-gain[at - 1], abs=0.02)
        assert max(found.taken_db) == pytest.approx(-gain[first:].min(), abs=0.05)
        assert max(found.level_db) == pytest.approx(20 * np.log10(np.abs(x).max()), abs=0.1)

    def test_bands_split_a_hit(self):
        """A tone lies in its own band, and hardly in any other."""
        tone = np.sin(2 * np.pi * 400 * np.arange(RATE) / RATE).astype(np.float32)
        levels = [
            20 * np.log10(np.std(in_band(tone, *edges, RATE)[RATE // 2 :]))
            for edges in ((20.0, 150.0), (150.0, 1000.0), (1000.0, 5000.0))
        ]
        assert levels[1] == pytest.approx(-3.0, abs=0.2)
        assert max(levels[0], levels[2]) < -30.0


@pytest.mark.parametrize(
    "was", [Compressor(on=False), Compressor(on=True, threshold_db=-30.0, ratio=4.0, makeup_db=5.0)]
)
@pytest.mark.parametrize("attack_ms", [1.0, 30.0])
def test_as_loud_as_before(was, attack_ms):
    """Dialled in, hits leave it as loud as they left it before, within a quarter of a dB over the song."""
    x, hits, heard = heard_of("snare", 8311, 0.6)
    found = made_up(
        Compressor(on=True, threshold_db=-34.0, ratio=6.0, attack_ms=attack_ms, release_ms=90.0), was, heard, RATE
    )

    def loud_db(settings: Compressor) -> float:
        y = x * 10 ** (gain_db(x, settings) / 20) if settings.on else x
        parts = [y[round(h.time_s * RATE) :][: round(0.12 * RATE)] for h in hits]
        return float(np.median([10 * np.log10(np.mean(np.square(part)) + 1e-12) for part in parts]))

    assert loud_db(found) == pytest.approx(loud_db(was), abs=0.25)
