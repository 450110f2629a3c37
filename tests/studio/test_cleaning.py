"""Cleaning as Moves: a mic in another way, the kit to a look, and what the command line says of it."""

import json
import re

import numpy as np
import pytest

from arkund.core.clean.propose import way_of
from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import is_tom
from arkund.studio.models import Session
from arkund.studio.services import cleaning, moves
from arkund.studio.services.measuring import Measure
from arkund.studio.services.recordings import recordings_of
from arkund.studio.services.rendering import rendered
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


def test_the_one_click_turns_toms_down(proposed, capsys):
    """After everything was proposed no tom mic is open where its tom is not played, and `arkund clean` says so."""
    from arkund.studio.cli.main import main

    session = proposed
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


class TestByBand:
    """A ring, or one drum's bleed, turned down by frequency; said with what it costs, and taken back."""

    def test_bleed_there_and_back(self, session):
        """At lone strikes of the kick the snare's mic is lower in those bands, own hits stay within what is said."""
        m = Measure(session)
        before = m.plan
        change = cleaning.by_band(m, "sn-top", "bleed", "kick")
        assert re.search(r"bleed of the kick at [\d, ]+ Hz; own hits [+-][\d.]+ dB", change.title)
        m = made(session, change)
        tool = m.plan.mic("sn-top").tool("bleed")
        assert {each.piece for each in m.plan.struck} == {"snare", "kick"}
        span = (0, m.recordings.length(m.plan.take))
        a, b = (rendered(plan, recordings_of(session), span, "strip:sn-top") for plan in (before, m.plan))
        every = [h.time_s for piece, mine in m.hits.items() if piece == "snare" for h in mine]
        lone = [h.time_s for h in m.hits["kick"] if min(abs(h.time_s - t) for t in every) > 0.2][:6]
        assert lone
        hz = np.fft.rfftfreq(1 << 14, 1 / m.rate)
        near = np.any([np.abs(np.log2((hz + 1e-3) / band.frequency_hz)) < 0.15 for band in tool.bands], axis=0)
        parts = [[x[round((t + 0.004) * m.rate) :][:1440] for t in lone] for x in (a, b)]
        powers = [sum(np.sum(np.abs(np.fft.rfft(part, 1 << 14)[near]) ** 2) for part in row) for row in parts]
        assert -8.5 < 10 * np.log10(powers[1] / powers[0]) < -4.0
        m = made(session, cleaning.by_band(m, "sn-top", "bleed"))
        assert m.plan.mic("sn-top").tools == before.mic("sn-top").tools

    def test_refused(self, session):
        """An unknown word, a drum that is not heard alone."""
        with pytest.raises(SettingsError, match="expected one of ring, bleed"):
            cleaning.by_band(Measure(session), "sn-top", "hum")
        with pytest.raises(SettingsError, match="no hits of 'crash' are heard alone"):
            cleaning.by_band(Measure(session), "sn-top", "bleed", "crash")
