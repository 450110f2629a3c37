"""Cleaning as Moves: a mic in another way, the kit to a look, and what the command line says of it."""

import json
import re

import numpy as np
import pytest

from arkund.core.clean.propose import way_of
from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import is_tom
from arkund.core.rig.changes import Change
from arkund.studio.models import Session
from arkund.studio.pages import charts
from arkund.studio.services import cleaning, moves, pictures, rigging
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


class TestInTheSong:
    """What the page draws and takes is where it sounds, whatever was moved."""

    @pytest.fixture
    def cut(self, session) -> Measure:
        """The first tom cut by hits in a song whose second half sounds a quarter of a second later, its mic 3 ms later still."""
        m = Measure(session)
        at = round(m.hits["tom1"][0].time_s * m.rate) - 2000
        late = {
            "cuts": [{"at": at, "shift": m.rate // 4, "fade_ms": 2.0, "alike": 1.0}],
            "mics.t1.line_up.delay_ms": 3.0,
        }
        made(session, Change("later", late))
        return made(session, cleaning.set_way(Measure(Session.objects.get(pk=session.pk)), "t1", "cut"))

    def test_regions_open_where_the_tom_sounds(self, cut):
        """Within a millisecond of the hits in what is rendered; so do the drawn hits and the drawn wave."""
        mic = cut.plan.mic("t1")
        (begin, end), *_ = cut.regions_s(mic)
        bare = cut.plan.replace(mics=tuple(each.replace(tools=()) for each in cut.plan.mics))
        span = (0, cut.recordings.length(cut.plan.take))
        alone = [rendered(plan, recordings_of(cut.session), span, "strip:t1") for plan in (bare, cut.plan)]
        inside = slice(round((begin + 0.001) * cut.rate), round((end - 0.001) * cut.rate))
        assert np.array_equal(alone[0][inside], alone[1][inside])
        before = slice(round((begin - 0.2) * cut.rate), round((begin - 0.02) * cut.rate))
        assert np.abs(alone[1][before]).max() < 0.1 * np.abs(alone[0][before]).max()
        data = charts.clean(cut, "t1")
        assert min(abs(t - begin) for t in data["own_s"]) < 0.002
        drawn = np.frombuffer(
            b"".join(pictures.of_song(cut.session, "t1", 1, k)[0] for k in range(span[1] // pictures.BLOCK)), np.int16
        )
        wanted = alone[0][: drawn.size] * 10 ** (-mic.trim_db / 20)
        assert np.abs(drawn / 32767 - wanted).max() < 2 / 32767
        columns = np.frombuffer(pictures.of_song(cut.session, "t1", 256)[0], np.int8).reshape(-1, 2)
        assert (
            np.abs(columns[: drawn.size // 256, 1] / 127 - wanted.reshape(-1, 256).max(axis=1).clip(0)).max()
            < 1.01 / 127
        )

    def test_an_edge_in_the_song(self, cut):
        """The one that was moved lies there, to the sample; the other, and all other regions, stay as they are."""
        spans = cut.plan.mic("t1").first("regions").spans
        begin, end = cut.regions_s(cut.plan.mic("t1"))[0]
        m = made(cut.session, cleaning.set_region(cut, "t1", 0, (round(begin, 3), end - 0.05)))
        now = m.plan.mic("t1").first("regions").spans
        assert now[0][0] == spans[0][0]
        assert now[0][1] == pytest.approx(spans[0][1] - 0.05 * m.rate, abs=1)
        assert now[1:] == spans[1:]
        m = made(cut.session, cleaning.set_region(m, "t1", None, (begin - 0.4, begin - 0.3)))
        assert len(m.plan.mic("t1").first("regions").spans) == len(spans) + 1
        m = made(cut.session, cleaning.set_region(m, "t1", 0, None))
        assert m.plan.mic("t1").first("regions").spans == now
        with pytest.raises(SettingsError, match="there is no number 99"):
            cleaning.set_region(m, "t1", 98, None)
        with pytest.raises(SettingsError, match="inside the one before it"):
            made(cut.session, cleaning.set_region(m, "t1", None, (begin, end)))

    def test_a_floor_after_one_region(self, cut):
        """Set, shown, carried along when the region's begin is moved, and gone with it; nothing given is as everywhere."""
        m = made(cut.session, cleaning.set_floor(cut, "t1", 0, 6.0))
        tool = m.plan.mic("t1").first("regions")
        assert tool.floors == ((tool.spans[0][0], 6.0),)
        assert charts.clean(m, "t1")["floors_db"] == [6.0, *[tool.down_db] * (len(tool.spans) - 1)]
        begin, end = m.regions_s(m.plan.mic("t1"))[0]
        m = made(m.session, cleaning.set_region(m, "t1", 0, (begin - 0.05, end)))
        tool = m.plan.mic("t1").first("regions")
        assert tool.floors == ((tool.spans[0][0], 6.0),)
        assert made(m.session, cleaning.set_region(m, "t1", 0, None)).plan.mic("t1").first("regions").floors == ()
        moves.undo(m.session.pk)
        m = Measure(Session.objects.get(pk=m.session.pk))
        assert made(m.session, cleaning.set_floor(m, "t1", 0, None)).plan.mic("t1").first("regions").floors == ()
        with pytest.raises(SettingsError, match="no region 99"):
            cleaning.set_floor(m, "t1", 98, 6.0)

    def test_a_gate_that_listens_elsewhere(self, session):
        """Is drawn open where its key opens it."""
        m = made(session, cleaning.set_way(Measure(session), "t1", "gate"))
        m = made(session, rigging.set_key(m.session, "t1", "gate", "hits:snare"))
        m = made(
            m.session, Change("for all", {"mics.t1.tools.gate.threshold_db": -60.0, "mics.t1.tools.gate.hold_ms": 20.0})
        )
        opened_s = np.array(m.opened(m.plan.mic("t1"))) / m.rate
        struck = [h.time_s for h in m.hits["snare"]]
        assert all(np.any((opened_s[:, 0] - 0.01 < at) & (at < opened_s[:, 1])) for at in struck)
        assert all(min(abs(begin - at) for at in struck) < 0.01 for begin in opened_s[:, 0])
        assert charts.clean(m, "t1")["key"] == "hits:snare"


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
