"""Corrections of strokes: in the direction of what misses, by how much it does, and no further than each goes."""

import pytest

from arkund.core.card import levers, strokes
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.grit import Grit
from arkund.core.tools.shaper import Shaper
from tests.core.card.test_levers import PLAN


def _shaper(attack_db: float, sustain_db: float) -> dict:
    return Shaper(id="shaper", on=True, attack_db=attack_db, sustain_db=sustain_db).to_json()


class TestStrokes:
    """Each moves what it names."""

    def test_contrast(self):
        """SUSTAIN softer by what is short, and muted only where nobody would hear it; overheads sharpened where they are asked to give."""
        values = strokes.contrast(PLAN, 2.0, 1.0).values
        assert values["paths.sustain.level_db"] == -12.0
        shaper = change.put(PLAN, values).groups[2].tool(strokes.STANDS_OUT)
        assert shaper.attack_db > 0.0 > shaper.sustain_db
        assert "groups.overheads.tools" not in strokes.contrast(PLAN, 2.0, 0.0).values
        assert "mics.hat.tools" not in values
        hat = change.put(PLAN, strokes.contrast(PLAN, 2.0, 0.0, 1.0).values).mic("hat").tool(strokes.STANDS_OUT)
        assert hat.attack_db > 0.0 > hat.sustain_db
        blunt = change.put(PLAN, strokes.contrast(PLAN, 2.0, 1.0, attack_room_db=0.0).values)
        assert blunt.groups[2].tool(strokes.STANDS_OUT).attack_db == 0.0
        soft = change.put(PLAN, {"paths.sustain.level_db": levers.SOFTEST_PATH_DB})
        assert strokes.contrast(soft, 2.0, 0.0).values["paths.sustain.mute"] is True

    @pytest.mark.parametrize(
        ("attack_db", "body_db", "by_db", "now"),
        [
            (2.0, 0.0, 1.2, (3.2, 0.0)),  # attack alone, as far as it goes
            (10.0, 0.0, 4.0, (12.0, -1.0)),  # then less body
            (2.0, 0.0, 400.0, (12.0, -8.0)),
            (2.0, 0.0, -3.0, (-1.0, 1.5)),  # too sharp: more body as well
            (2.0, 0.0, -400.0, (-6.0, 6.0)),
            (-1.0, 1.5, 3.0, (2.0, 0.0)),  # and back
            (14.0, -8.0, 1.0, (14.0, -8.0)),  # set by hand
        ],
    )
    def test_attack(self, attack_db, body_db, by_db, now):
        """By so much, to its end; body where attack is not enough or too much of it."""
        plan = change.put(PLAN, {"mics.in.tools.shaper": _shaper(attack_db, body_db)})
        shaper = change.put(plan, strokes.attack(plan, by_db).values).mic("in").tool("shaper")
        assert (shaper.attack_db, shaper.sustain_db) == pytest.approx(now)

    @pytest.mark.parametrize(
        ("drive_db", "now"), [(6.0, (4.0, 0.0, 1.0)), (12.0, (3.0, -1.5, 0.94)), (18.0, (2.0, -3.0, 0.88))]
    )
    def test_attack_that_is_lost(self, drive_db, now):
        """Where peaks are rounded off body goes in place of what is lost of attack, and compressors get drier: as far as it is lost."""
        row = [_shaper(2.0, 0.0), Compressor(id="compressor", on=True).to_json()]
        dense = Grit(id=levers.DENSE, on=True, drive_db=drive_db).to_json()
        plan = change.put(PLAN, {"mics.in.tools": row, "kit.tools": [*(t.to_json() for t in PLAN.kit.tools), dense]})
        shaper, compressor = change.put(plan, strokes.attack(plan, 2.0).values).mic("in").tools
        assert (shaper.attack_db, shaper.sustain_db, compressor.share) == pytest.approx(now)

    def test_ghosts(self):
        """SUSTAIN softer; where that is not heard, compressors that even strokes out with more of the dry sound."""
        assert strokes.ghosts(PLAN, 1.0).values == {"paths.sustain.level_db": -10.0 - strokes.SUSTAIN_PER_GHOST}
        quiet = change.put(PLAN, {"paths.sustain.mute": True, "kit.tools.compressor.on": True})
        assert strokes.ghosts(quiet, 1.0).values == {"kit.tools.compressor.share": 0.7}
        assert strokes.ghosts(change.put(quiet, {"kit.tools.compressor.on": False}), 1.0) is None

    def test_hat_in_snare(self):
        """A shelf that goes down at hats by so much; past its end the snare's compressor with more of the dry sound."""
        snare = MicPlan(
            id="top", name="top", piece="snare", role="top", tools=(Compressor(id="compressor", on=True, share=0.9),)
        )
        plan = PLAN.replace(mics=(*PLAN.mics, snare))
        most = strokes.MOST_HAT_DB
        for by_db, over_db, range_db, share in (
            (4.0, 4.0, -4.0, 0.9),
            (most + 1.0, most + 1.0, -most, 0.6),
            (most + 1.0, 0.0, -most, 0.9),  # for the sake of others
        ):
            row = {tool["id"]: tool for tool in strokes.hat_in_snare(plan, by_db, over_db).values["mics.top.tools"]}
            assert row[strokes.HAT]["bands"][0]["range_db"] == range_db
            assert row["compressor"]["share"] == pytest.approx(share)
