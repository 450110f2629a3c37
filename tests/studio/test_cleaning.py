"""Cleaning as Moves: a mic in another way, the kit to a look, and what the command line says of it."""

import json

import pytest

from arkund.core.clean.propose import way_of
from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import is_tom
from arkund.studio.models import Session
from arkund.studio.services import cleaning, moves
from arkund.studio.services.measuring import Measure
from arkund.studio.services.proposing import propose_all
from tests.studio.doing import made


def report(m: Measure) -> dict:
    return next(row for row in cleaning.reports(m) if row["mic"] == "t1")


class TestWays:
    """One mic."""

    def test_cut_gated_left(self, session):
        """Each way is one Move, and what is measured after it is of what is heard then."""
        m = made(session, cleaning.set_way(Measure(session), "t1", "cut"))
        told = report(m)
        assert told["way"] == "cut"
        assert told["done"]["bleed_db"] == pytest.approx(-24.0, abs=0.2)
        assert told["done"]["kept"] == told["done"]["own"] > 0
        assert "bleed −24.0 dB" in told["words"]
        m = made(session, cleaning.set_way(m, "t1", "gate"))
        assert way_of(m.plan.mic("t1")) == "gate"
        m = made(session, cleaning.set_way(m, "t1", "leave"))
        assert report(m)["done"] is None
        for _ in range(3):
            moves.undo(session.pk)
        assert Session.objects.get(pk=session.pk).plan.mic("t1").first("regions") is None

    def test_refused(self, session):
        """What cannot be done is said, and nothing is changed."""
        m = Measure(session)
        with pytest.raises(SettingsError, match="way: expected one of gate, cut, leave; got 'mute'"):
            cleaning.set_way(m, "t1", "mute")
        with pytest.raises(SettingsError, match="look: expected one of tight"):
            cleaning.set_look(m, "loose")
        with pytest.raises(SettingsError, match="no mic 'x'"):
            cleaning.set_way(m, "x", "cut")
        m._hits = {"kick": m.hits["kick"]}
        with pytest.raises(SettingsError, match="nothing of tom1 was found"):
            cleaning.set_way(m, "t1", "cut")
        assert cleaning.set_way(m, "t1", "leave").values == {}


class TestLook:
    """The whole kit."""

    def test_tight_some_life_open(self, session):
        """Depths follow the look; regions that were set stay; open leaves every mic."""
        m = made(session, cleaning.set_way(Measure(session), "t1", "cut"))
        m = made(session, cleaning.set_look(m, "tight"))
        assert report(m)["done"]["bleed_db"] < -50.0
        spans = m.plan.mic("t1").first("regions").spans
        m = made(session, cleaning.set_look(m, "some life"))
        assert m.plan.mic("t1").first("regions").spans == spans
        assert report(m)["done"]["bleed_db"] == pytest.approx(-24.0, abs=0.2)
        m = made(session, cleaning.set_look(m, "open"))
        assert {way_of(mic) for mic in m.shells()} == {"leave"}
        assert m.plan.cleaning.look == "open"


def test_the_one_click_turns_toms_down(session, capsys):
    """After everything was proposed no tom mic is open where its tom is not played, and `arkund clean` says so."""
    from arkund.studio.cli.main import main

    propose_all(session.pk)
    main(["clean", str(session.pk), "--json"], standalone_mode=False)
    told = json.loads(capsys.readouterr().out)
    toms = [row for row in told["mics"] if is_tom(Session.objects.get(pk=session.pk).plan.mic(row["mic"]).piece)]
    assert toms
    for row in toms:
        assert row["done"]["bleed_db"] <= -18.0
        assert row["done"]["kept"] == row["done"]["own"]
        assert row["done"]["peak_db"] <= 0.5
        assert row["done"]["alike"] >= 0.995
    main(["clean", str(session.pk), "--mic", "t1", "--way", "leave"], standalone_mode=False)
    assert "T1               left as it is" in capsys.readouterr().out
