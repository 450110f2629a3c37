"""Shaper and compressor of an imported kit brought to what is wanted, measured on what is rendered."""

import numpy as np
import pytest

from arkund.core.dsp.loudness import quick_loudness_lufs
from arkund.core.errors import SettingsError
from arkund.core.punch.solve import Wanted
from arkund.core.rig import places
from arkund.core.rig.changes import Change
from arkund.core.units import gain_to_db
from arkund.studio.models import Session
from arkund.studio.services import carding, solving
from arkund.studio.services.findings import find
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import rendered
from tests.studio.doing import apply, made

pytestmark = pytest.mark.django_db


def loudness_lufs(measure: Measure, output: str) -> float:
    audio = rendered(measure.plan, measure.recordings, measure.busy_span(), output)
    return quick_loudness_lufs(np.repeat(audio[:, None], 2, axis=1), measure.rate)


def median_change_db(measure: Measure, after: Measure, output: str, piece: str) -> float:
    """Return by how much the peak from 5 to 40 ms after each hit changes from one Plan to another."""
    span, rate = measure.busy_span(), measure.rate
    was, now = (np.abs(rendered(m.plan, m.recordings, span, output)) for m in (measure, after))
    out = []
    for hit in carding.heard_hits(measure, span)[piece]:
        a, b = round((hit.time_s + 0.005) * rate), round((hit.time_s + 0.04) * rate)
        if a > 0 and b < was.shape[0]:
            out.append(float(gain_to_db(now[a:b].max()) - gain_to_db(was[a:b].max())))
    return float(np.median(out))


class TestSolve:
    """What was wanted is what comes out."""

    def test_a_mic(self, session):
        """Attack, reduction and recovery within half a dB, told with its cost; the Move carries it, and it is told again from the Plan as it then is."""
        solved = solving.solve(Measure(session), "sn-top", Wanted(reduction_db=5.0, left_db=0.5, attack_db=4.0))
        assert not solved.missed
        assert solved.reached["reduction"] == pytest.approx(5.0, abs=0.3)
        assert solved.reached["attack"] == pytest.approx(4.0, abs=0.5)
        assert "against them" in solved.cost
        move = solving.make(session, solved)
        assert "Wanted: 5 dB at hits" in move.measured
        told = solving.report(Measure(Session.objects.get(pk=session.pk)), "sn-top")
        assert told["attack_db"] == pytest.approx(solved.reached["attack"], abs=0.02)
        assert told["compressors"][0]["deepest_db"] == pytest.approx(solved.reached["reduction"], abs=0.02)

    def test_as_loud(self, session):
        """The loudness that goes comes back within 0.2 dB."""
        solved = solving.solve(Measure(session), "kd-in", Wanted(reduction_db=8.0, as_loud=True))
        after = made(session, Change("crushed", dict(solved.values)))
        row = after.plan.mic("kd-in").tools
        assert row[-1].makeup_db > 1.0
        bare = Measure(session, places.with_strip(after.plan, "kd-in", tools=row[:-1]))
        was, now = (loudness_lufs(each, "strip:kd-in") for each in (bare, after))
        assert now == pytest.approx(was, abs=0.2)

    def test_at_anothers_hits(self, session):
        """The overheads' note takes its part at the snare's strokes; at the kick's, half a second later, what a release of 200 ms has left."""
        before = Measure(session)
        note = next(f for f in find("punch", before) if f.key == "punch:tuck")
        assert not note.first_choice
        after = made(session, Change(note.title, dict(note.changes)))
        snare, kick = (median_change_db(before, after, "group:overheads", each) for each in ("snare", "kick"))
        assert snare < -2.0
        assert kick > -0.6

    @pytest.mark.parametrize(
        ("strip", "words"),
        [("talkback", "no 'talkback'; there are mic:"), ("group:rooms", "nothing is heard of rooms")],
    )
    def test_refused(self, session, strip, words):
        """With the strip, and what is missing."""
        with pytest.raises(SettingsError, match=words):
            solving.solve(Measure(session), strip, Wanted(attack_db=3.0))


class TestNotes:
    """What is proposed for each shell mic."""

    @pytest.mark.long
    def test_each_does_what_it_says(self, session):
        """Accepted, a mic's attack against body is within half a dB of what its school wants, and its compressor takes that."""
        notes = [f for f in find("punch", Measure(session)) if f.first_choice]
        assert {f.place for f in notes} == {"kd-in", "kd-out", "sn-top", "snr-btm", "t1"}
        for note in notes:
            apply(session.pk, dict(note.changes), step="punch", title=note.title)
        measure = Measure(Session.objects.get(pk=session.pk))
        for note in notes:
            told = solving.report(measure, note.place)
            assert told["attack_db"] == pytest.approx(3.0, abs=0.6), note.title
            assert told["compressors"][0]["deepest_db"] == pytest.approx(4.0, abs=0.3), note.title

    def test_without_hits(self, session):
        """A drum on which nothing is played has no note, and nothing breaks."""
        measure = Measure(session)
        measure._hits = {}
        assert find("punch", measure) == []
