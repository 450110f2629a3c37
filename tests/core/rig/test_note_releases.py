"""Releases set as note values follow the tempo."""

import pytest

from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan, Tempo
from arkund.core.rig.note_releases import followed
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.tool import tool


def plan(bpm: float = 120.0, release_by: str = "1/8", release_ms_: float = 250.0, **tempo) -> Plan:
    mine = Compressor(on=True, release_by=release_by, release_ms=release_ms_)
    mics = (
        MicPlan(id="sn", name="SN", piece="snare", role="top", tools=(tool("gate"), mine)),
        MicPlan(id="kd", name="KD", piece="kick", role="in", tools=(Compressor(on=True, release_ms=90.0),)),
    )
    return Plan(take="take-1", mics=mics, tempo=Tempo(bpm=bpm, **tempo))


AT = "mics.sn.tools.compressor"


class TestFollowed:
    """What changes with the tempo, the note, or a hand."""

    @pytest.mark.parametrize(("bpm", "wanted"), [(120.0, 250.0), (100.0, 300.0), (90.0, 333.0), (150.0, 200.0)])
    def test_the_tempo(self, bpm, wanted):
        """An eighth is half a beat of 4/4: 30 s by the BPM; what goes by time stays."""
        found = followed(plan(), plan(bpm))
        assert found == ({} if bpm == 120.0 else {f"{AT}.release_ms": wanted})

    @pytest.mark.parametrize(("note", "wanted"), [("1/4", 500.0), ("1/8t", 167.0), ("1/8.", 375.0), ("1/1", 2000.0)])
    def test_another_note(self, note, wanted):
        """Chosen, the release is as long as that."""
        before = plan()
        assert followed(before, change.put(before, {f"{AT}.release_by": note})) == {f"{AT}.release_ms": wanted}

    def test_by_hand(self):
        """Set in ms it goes by time, and no tempo moves it any more."""
        before = plan()
        assert followed(before, change.put(before, {f"{AT}.release_ms": 180.0})) == {f"{AT}.release_by": "time"}

    def test_nothing_else(self):
        """Another setting of it, or one that goes by time or by itself, follows nothing."""
        before = plan()
        assert followed(before, change.put(before, {f"{AT}.ratio": 3.0})) == {}
        for way in ("time", "itself"):
            assert followed(plan(release_by=way), plan(90.0, release_by=way)) == {}

    def test_a_new_one(self):
        """A compressor that was not there before gets the length of its note."""
        before = plan()
        mics = tuple(mic.replace(tools=()) for mic in before.mics)
        found = followed(before.replace(mics=mics), plan(release_ms_=100.0))
        assert found == {f"{AT}.release_ms": 250.0}

    def test_slow_songs(self):
        """A whole note that is longer than a release can be is as long as that can be."""
        assert followed(plan(), plan(60.0, release_by="1/1")) == {f"{AT}.release_ms": 2000.0}

    def test_in_six_eight(self):
        """Beats are dotted quarters there: an eighth is a third of one."""
        six = {"beats_per_bar": 6, "beat_unit": 8}
        assert followed(plan(90.0, **six), plan(60.0, **six)) == {f"{AT}.release_ms": 333.0}
