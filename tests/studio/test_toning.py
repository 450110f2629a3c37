"""Tone as it is worked on in an imported kit."""

import dataclasses

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.rig import places
from arkund.core.tools.tone import MOST_BANDS, Band, Tone
from arkund.studio.services import toning
from arkund.studio.services.findings import find
from arkund.studio.services.measuring import Measure
from tests.studio.doing import made

pytestmark = pytest.mark.django_db


class TestNotch:
    """A cut where one points."""

    def test_behind_what_stands_there(self, session):
        """Each is one more filter of the same equaliser; pointed at from a little beside, the same peak is found again."""
        measure = made(session, toning.notch(Measure(session), "sn-top", 400.0))
        measure = made(session, toning.notch(measure, "sn-top", 2500.0))
        first, second = measure.plan.mic("sn-top").first("tone").bands
        assert first.frequency_hz == pytest.approx(400.0, rel=0.1)
        assert first.gain_db <= -2.0
        assert second.frequency_hz == pytest.approx(2500.0, rel=0.1)
        again = toning.notch(measure, "sn-top", first.frequency_hz * 1.02)
        assert f"{first.frequency_hz:.0f} Hz" in again.title

    def test_refused(self, session):
        """Outside the spectrum, for no number, in a full equaliser."""
        measure = Measure(session)
        for hz in (1.0, -5.0, 0.0, float("nan"), float("inf")):
            with pytest.raises(SettingsError, match="outside its spectrum"):
                toning.notch(measure, "sn-top", hz)
        full = Tone(bands=tuple(Band(frequency_hz=100.0 + k) for k in range(MOST_BANDS)))
        plan = places.with_strip(measure.plan, "sn-top", tools=(full,))
        with pytest.raises(SettingsError, match="has 24 filters already"):
            toning.notch(Measure(session, plan), "sn-top", 400.0)

    def test_only_an_equaliser_is_written(self, session):
        """Another tool that is named is left as it is: the cut goes into the equaliser."""
        measure = made(session, toning.notch(Measure(session), "sn-top", 400.0, "gate"))
        assert measure.plan.mic("sn-top").tool("gate").kind == "gate"
        assert len(measure.plan.mic("sn-top").first("tone").bands) == 1

    def test_without_strokes(self, session):
        """Said."""
        measure = Measure(session)
        measure._hits = {}
        with pytest.raises(SettingsError, match="no strokes were found"):
            toning.notch(measure, "kd-in", 100.0)


class TestCopied:
    """To other strips."""

    def test_to_another_drum(self, session):
        """To a mic of the same drum, or to another kind of drum, as it is."""
        measure = made(session, toning.notch(Measure(session), "kd-in", 300.0))
        change = toning.copy_tool(measure, "kd-in", "tone", ["mic:kd-out", "mic:sn-top"])
        assert "retuned" not in change.title
        after = made(session, change)
        assert len({after.plan.mic(mic).first("tone").bands for mic in ("kd-in", "kd-out", "sn-top")}) == 1

    def test_to_another_tom(self, session, monkeypatch):
        """By the ratio of what was measured."""
        measure = made(session, toning.notch(Measure(session), "t1", 300.0))
        plan = measure.plan.replace(
            mics=tuple(m.replace(piece="floor") if m.id == "kd-out" else m for m in measure.plan.mics)
        )
        measure = Measure(session, plan)
        known = Measure.tone
        pitch = {"t1": 150.0, "kd-out": 90.0}
        monkeypatch.setattr(
            Measure, "tone", lambda self, mic: dataclasses.replace(known(self, mic), fundamental_hz=pitch[mic.id])
        )
        change = toning.copy_tool(measure, "t1", "tone", ["mic:kd-out"])
        assert "KD out retuned by 0.60" in change.title
        tone = change.values.get("mics.kd-out.tools.tone")
        assert tone["bands"][0]["frequency_hz"] == pytest.approx(
            0.6 * measure.plan.mic("t1").first("tone").bands[0].frequency_hz, abs=0.1
        )


class TestSums:
    """What is laid over."""

    @pytest.mark.parametrize("what", ["drum", "kit"])
    def test_before_and_after(self, session, what):
        """With a deep cut in both of the kick's mics the sum is lower there by as much; the kit by less."""
        plan = Measure(session).plan
        cut = Tone(bands=(Band(frequency_hz=60.0, gain_db=-12.0, q=1.0),))
        for mic in ("kd-in", "kd-out"):
            plan = places.with_strip(plan, mic, tools=(cut,))
        found = toning.sums(Measure(session, plan), "kd-in", what)
        at = int(np.argmin(np.abs(np.array(found["axis_hz"]) - 60.0)))
        change_db = found["after_db"][at] - found["before_db"][at]
        assert change_db == pytest.approx(-12.0, abs=1.5) if what == "drum" else -11.0 < change_db < -2.0
        assert found["thinned"] is None

    def test_refused(self, session):
        """No music, no such sum."""
        with pytest.raises(SettingsError, match="no backing track is loaded"):
            toning.sums(Measure(session), "kd-in", "music")
        with pytest.raises(SettingsError, match="expected one of drum, kit, music"):
            toning.sums(Measure(session), "kd-in", "moon")


class TestMasking:
    """Who is loudest where in the kit."""

    def test_gives_way(self, session):
        """The kick owns the bottom at its strokes, raw mics the rest as they come; what gives way has one bell more for each range."""
        measure = Measure(session)
        rows = {row["piece"]: row for row in toning.masking(measure)}
        assert set(rows["kick"]["loudest"][:5]) == {"group:kick"}
        assert set(rows) == {"kick", "snare"}
        after = made(session, toning.part(measure, "group:overheads", 400.0, 800.0))
        (band,) = after.plan.groups[[g.id for g in after.plan.groups].index("overheads")].tool("apart").bands
        assert (band.gain_db, band.frequency_hz) == (-3.0, pytest.approx(565.7, abs=0.1))
        again = made(session, toning.part(after, "group:overheads", 2000.0, 4000.0))
        assert len(again.plan.groups[[g.id for g in again.plan.groups].index("overheads")].tool("apart").bands) == 2

    def test_refused(self, session):
        """No range, no strip."""
        with pytest.raises(SettingsError, match="800 to 400 Hz is no range"):
            toning.part(Measure(session), "group:overheads", 800.0, 400.0)
        with pytest.raises(SettingsError, match="no 'group:choir'"):
            toning.part(Measure(session), "group:choir", 400.0, 800.0)


def test_what_is_lifted_where_ears_tire(session):
    """Bells between 1 and 5 kHz that are on, by strip."""
    lifted = Band(frequency_hz=3000.0, gain_db=2.5)
    others = [lifted.replace(frequency_hz=900.0), lifted.replace(gain_db=-3.0), lifted.replace(on=False)]
    bands = (lifted, *others)
    plan = places.with_strip(Measure(session).plan, "sn-top", tools=(Tone(bands=bands),))
    assert toning.boosts(Measure(session, plan)) == [{"name": "SN top", "db": 2.5}]


def test_both_schools_of_overheads(session):
    """The picture of the kit is the first choice; with the usual lifts, and as cymbals alone, it falls towards the top, and is offered."""
    notes = {f.key: f for f in find("tone", Measure(session))}
    whole, taste, other = notes["tone:oh-l"], notes["tone:oh-l:taste"], notes["tone:cymbals"]
    assert [each.first_choice for each in (whole, taste, other)] == [True, False, False]
    for note, hz in ((whole, 100.0), (taste, 100.0), (other, 400.0)):
        (tone,) = (Tone.from_json(v) for k, v in note.changes.items() if k.startswith("mics.oh-l"))
        assert (tone.bands[0].kind, tone.bands[0].frequency_hz) == ("high_pass", hz)
        assert note is whole or tone.bands[-1].kind == "low_pass"
