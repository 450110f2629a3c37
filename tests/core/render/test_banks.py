"""Strips side by side: which share a bank, and that it changes nothing."""

import numpy as np
import pytest

from arkund.core.render.banks import merged, shared_out
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.gate import Gate
from arkund.core.tools.plain import residual_db, row
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tone import Band, Tone
from arkund.core.tools.tool import Key, Tool
from tests.core.dsp.test_bank import drums
from tests.stages import RATE, row_through


def row_of(seed: int, lane: int) -> list[Tool]:
    """A row of tools, at random."""
    rng = np.random.default_rng([seed, lane])
    bells = tuple(
        Band(kind="bell", frequency_hz=float(rng.uniform(80, 9000)), gain_db=float(rng.uniform(-9, 9)), q=1.2)
        for _ in range(5)
    )
    return [
        Gate(on=True, threshold_db=-38.0, lookahead_ms=float(rng.choice([0.0, 1.5])), range_db=20.0),
        Tone(bands=(Band(kind="high_pass", frequency_hz=60.0, slope_db=24), *bells)),
        Shaper(on=True, attack_db=4.0, sustain_db=-3.0),
        Compressor(on=True, threshold_db=-20.0, ratio=4.0, key=Key(low_hz=80.0)),
    ]


class TestAgainstThePlainLoop:
    """Whole rows together."""

    @pytest.mark.long
    @pytest.mark.parametrize("seed", [41])
    def test_sixteen_of_a_kind(self, seed):
        """Side by side, each against itself sample by sample in double precision: -90 dB or better."""
        rows = [row_of(seed, lane) for lane in range(16)]
        x = [drums(seed + lane)[: RATE // 2] for lane in range(16)]
        got = row_through(rows, x)
        for lane in (0, 15):
            assert residual_db(got[:, lane], row(x[lane], rows[lane], RATE)) < -90

    @pytest.mark.parametrize("seed", [43])
    def test_any_order_and_several_of_a_kind(self, seed):
        """Rows that have little in common share a bank, and none is the other's worse for it, to the last bit."""
        rng = np.random.default_rng(seed)
        rows = []
        for lane in range(6):
            some = row_of(seed, lane) + row_of(seed + 100, lane)
            rows.append([some[k] for k in rng.permutation(8)[: rng.integers(0, 7)]])
        x = [drums(seed + lane)[: RATE // 4] for lane in range(6)]
        together = row_through(rows, x)
        for lane in range(6):
            alone = row_through([rows[lane]], [x[lane]])[:, 0]
            assert np.array_equal(together[:, lane], alone), lane
            assert residual_db(alone, row(x[lane], rows[lane], RATE)) < -90


class TestSharing:
    """As few banks as it pays for."""

    def test_a_row_that_holds_all(self):
        """Each row is a part of it, at the places that are told."""
        rows = (("gate", "tone"), ("tone", "compressor", "tone"), (), ("compressor", "gate"))
        kinds, places = merged(rows)
        assert all(tuple(kinds[k] for k in at) == mine for mine, at in zip(rows, places, strict=True))
        assert len(kinds) <= 6

    def test_rows_that_differ_a_little_share(self):
        """One mic without a gate among others is a lane of theirs; many of another kind stand apart."""
        usual = ("gate", "tone", "shaper", "compressor")
        assert shared_out((usual, usual, usual[1:], usual), 1) == ((0, 1, 2, 3),)
        strange = ("shaper", "shaper", "gate", "gate", "gate", "tone")
        found = shared_out((usual,) * 8 + (strange,) * 8, 1)
        assert sorted(map(len, found)) == [8, 8]

    def test_no_bank_is_wider_than_they_go(self):
        """Sixteen mics or eight stereo strips."""
        rows = (("tone",),) * 37
        assert [len(bank) for bank in shared_out(rows, 1)] == [13, 13, 11]
        assert max(len(bank) for bank in shared_out(rows, 2)) == 8
