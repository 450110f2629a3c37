"""Made sounds under a drum, as Moves: at its note, never against it, wherever its hits go; and what is said of the low end."""

import json
import re

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import timing_mic
from arkund.core.plan import change
from arkund.core.replace.layers import split_hz
from arkund.studio.models import Session
from arkund.studio.services import archiving, layering, moves, rigging
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import print_session
from arkund.studio.services.recordings import recordings_of
from arkund.studio.services.rendering import rendered
from tests.stages import through
from tests.studio.doing import apply, made


class TestLay:
    """A sine, a thump."""

    @pytest.mark.parametrize("sort", ["sine", "thump"])
    def test_the_sum_is_never_weaker_than_its_louder_part(self, session, sort):
        """With its first settings, in the drum's low end, whatever the polarity of the recording."""
        m = Measure(session)
        inner = timing_mic(m.plan.mics, "kick")
        for inverted in (False, True):
            apply(session.pk, {f"mics.{inner.id}.line_up.inverted": inverted}, step="lineup", title="polarity")
            session.refresh_from_db()
            m = made(session, layering.add(Measure(session), "kick", sort))
            low = layering.told(m, "kick")
            louder = max(low["without_layers_main_db"], low["strips"][f"kick-{sort}"]["main_db"])
            assert low["sum_main_db"] >= louder
            moves.undo(session.pk)

    def test_it_begins_with_its_hits(self, session):
        """To a fraction of a sample, in the time of the drum's own mic; its note an octave under the drum's, or the one that was asked for."""
        m = made(session, layering.add(Measure(session), "kick", "sine"))
        layer, inner = m.plan.mic("kick-sine"), timing_mic(m.plan.mics, "kick")
        hits = sorted(h.time_s for h in m.hits["kick"])
        off_ms = [1000 * abs(at / m.rate - t) for (at, _), t in zip(layer.made.strikes, hits, strict=True)]
        assert max(off_ms) <= 0.05
        assert layer.line_up.delay_ms == inner.line_up.delay_ms
        own = m.tone(inner).fundamental_hz
        assert layer.made.frequency_hz in (round(own, 1), round(own / 2.0, 1))
        heard = rendered(m.plan, recordings_of(session), (0, 8 * m.rate), "strip:kick-sine")
        first = layer.made.strikes[0][0]
        assert np.abs(heard[: first - 8]).max(initial=0.0) < 1e-6 < np.abs(heard[first : first + 4800]).max()
        moves.undo(session.pk)
        session.refresh_from_db()
        apply(session.pk, {"key": "E"}, step="replace", title="the song is in E")
        session.refresh_from_db()
        tuned = layering.add(Measure(session), "kick", "sine").values["mics"][-1]["made"]["frequency_hz"]
        assert any(tuned == pytest.approx(each, abs=0.05) for each in (30.87, 41.2, 61.74, 82.41))
        asked = layering.add(Measure(session), "kick", "sine", 61.3).values["mics"][-1]
        assert asked["made"]["frequency_hz"] == 61.3

    def test_a_print_repeats_and_an_archive_keeps_it(self, session, tmp_path):
        """Two prints are the same bytes, with a strip of its own; a restored session prints them again."""
        made(session, layering.add(Measure(session), "kick", "thump"))
        prints = [print_session(session, tmp_path / name) for name in ("one", "two")]
        digests = [{each["file"]: each["blake3"] for each in row["files"]} for row in prints]
        assert digests[0] == digests[1]
        assert any("kick thump" in name for name in digests[0])
        archiving.archive(session, tmp_path / "song.zip")
        back = archiving.restore(tmp_path / "song.zip", name="Back")
        again = {each["file"]: each["blake3"] for each in print_session(back, tmp_path / "three")["files"]}
        assert again == digests[0]

    def test_refused(self, session):
        """A note outside, a drum without hits, a mic that is no layer: said, and nothing changed."""
        m, before = Measure(session), session.version
        for call, words in (
            (lambda: layering.add(m, "kick", "choir"), "expected one of sine, thump"),
            (lambda: layering.add(m, "kick", "sine", 500.0), "outside 20 to 200 Hz"),
            (lambda: layering.add(m, "crash", "sine"), "no hits of 'crash'"),
            (lambda: layering.remove(m, "kd-in"), "is a mic, not a layer"),
            (lambda: layering.again(m, "nobody"), "no mic 'nobody'"),
        ):
            with pytest.raises(SettingsError, match=words):
                call()
        mics = [mic.to_json() for mic in session.plan.mics]
        ghost = {"mics": [*mics, mics[0] | {"id": "kd-in-2"}]}
        with pytest.raises(SettingsError, match="no recording of 'kd-in-2'"):
            apply(session.pk, ghost, step="replace", title="a ghost")
        assert Session.objects.get(pk=session.pk).version == before


class TestSplit:
    """Mics above, layers below."""

    @pytest.mark.parametrize("hz", [43.0, 70.0, 87.0])
    def test_the_sum_is_flat(self, session, hz):
        """What both halves leave of an impulse has every frequency within a tenth of a decibel."""
        m = made(session, layering.add(Measure(session), "kick", "sine"))
        m = made(session, layering.split(m, "kick", hz))
        halves = [m.plan.mic(each).tool("split") for each in ("kd-in", "kick-sine")]
        impulse = np.zeros(1 << 17, np.float32)
        impulse[0] = 1.0
        both = np.fft.rfft(sum(through(half, impulse).astype(float) for half in halves))
        hertz = np.fft.rfftfreq(impulse.size, 1 / 48_000)
        heard = 20 * np.log10(np.abs(both[(hertz >= 20) & (hertz <= 20_000)]))
        assert np.abs(heard).max() <= 0.1
        low = 20 * np.log10(np.abs(np.fft.rfft(through(halves[1], impulse)))[np.argmin(np.abs(hertz - 4 * hz))])
        assert low == pytest.approx(-48.0, abs=0.5)

    def test_and_back(self, session):
        """One Move there, another one back; again at another frequency it is moved, not doubled."""
        m = made(session, layering.add(Measure(session), "kick", "thump"))
        before = [mic.tools for mic in m.plan.mics]
        m = made(session, layering.split(m, "kick", 60.0))
        m = made(session, layering.split(m, "kick", 80.0))
        assert layering.told(m, "kick")["split_hz"] == 80.0
        assert [each.id for each in m.plan.mic("kd-in").tools].count("split") == 1
        m = made(session, layering.split(m, "kick", None))
        assert [mic.tools for mic in m.plan.mics] == before
        assert split_hz(m.plan.mics, "kick") is None

    def test_refused(self, session):
        """Without a layer, and where nobody would split."""
        with pytest.raises(SettingsError, match="needs a mic and a layer"):
            layering.split(Measure(session), "kick", 70.0)
        with pytest.raises(SettingsError, match="500 Hz is outside 40 to 120 Hz"):
            layering.split(Measure(session), "kick", 500.0)


def test_the_command_line(session, capsys):
    """Added, listed, opened again, taken away."""
    from arkund.studio.cli.main import main

    run = lambda *words: (main(list(words), standalone_mode=False), capsys.readouterr().out)[1]
    number = str(session.pk)
    run("layer", "add", number, "sine", "--hz", "48")
    told = json.loads(run("layer", "list", number, "--json"))
    assert [(each["layer"], each["frequency_hz"]) for each in told["layers"]] == [("kick-sine", 48.0)]
    assert "kick-sine" in told["low_end"]["strips"]
    run("set", number, "mics.kick-sine.made.release_ms=400")
    assert "opened by" in run("layer", "again", number, "kick-sine")
    assert "layers below 70 Hz" in run("layer", "split", number, "--hz", "70")
    run("layer", "split", number)
    run("layer", "remove", number, "kick-sine")
    assert json.loads(run("layer", "list", number, "--json"))["layers"] == []


class TestWays:
    """Other ways to a low end: tools in the row of the mic that carries it, a path."""

    @pytest.mark.parametrize("way", ["lift", "shape", "resonance"])
    def test_there_and_back(self, session, way):
        """One Move there, that says what it did to the kit; the same button takes it away again."""
        m = Measure(session)
        before = {mic.id: mic.tools for mic in m.plan.mics}
        change = layering.take_way(m, "kick", way)
        said = float(re.search(r"([+-][\d.]+) dB at 40 to 110 Hz", change.title)[1])
        was = layering._kit_low_db(m, "kick")
        m = made(session, change)
        assert layering._kit_low_db(m, "kick") - was == pytest.approx(said, abs=0.06)
        assert way == "resonance" or said > 0.3
        assert [each["way"] for each in layering.ways(m, "kick") if each["taken"]] == [way]
        m = made(session, layering.take_way(m, "kick", way))
        assert {mic.id: mic.tools for mic in m.plan.mics} == before

    def test_a_low_band_lifted_at_kicks_only(self, session):
        """Between the kicks, and at snares, the mic is what it was to the last bit; at kicks its low band is as much louder as was set."""
        m = Measure(session)
        before = m.plan
        m = made(session, layering.take_way(m, "kick", "lift"))
        (carrying,) = [mic for mic in m.plan.mics if mic.tool("low-lift")]
        span = (0, m.recordings.length(m.plan.take))
        a, b = (rendered(plan, recordings_of(session), span, f"strip:{carrying.id}") for plan in (before, m.plan))
        kicks = np.array([h.time_s for h in m.hits["kick"]])
        first = round((kicks[0] - 0.01) * m.rate)
        assert np.array_equal(a[:first], b[:first])
        lone = [t for t in kicks if np.sort(np.abs(kicks - t))[1] > 0.3]
        assert lone
        (band,) = carrying.tool("low-lift").bands
        hz = np.fft.rfftfreq(1 << 16, 1 / m.rate)
        near = (hz > band.frequency_hz * 0.9) & (hz < band.frequency_hz * 1.1)
        for t in lone[:3]:
            at = round((t + 0.01) * m.rate)
            powers = [np.sum(np.abs(np.fft.rfft(x[at : at + 3360], 1 << 16)[near]) ** 2) for x in (a, b)]
            assert 10 * np.log10(powers[1] / powers[0]) == pytest.approx(band.range_db, abs=1.5)

    def test_a_path_of_its_bottom(self, session):
        """Fed by the mic that carries it; goes with its send."""
        m = made(session, layering.take_way(Measure(session), "kick", "weight"))
        assert [path.id for path in m.plan.paths if path.id == "weight"] == ["weight"]
        assert any(mic.send_db("weight") == 0.0 for mic in m.plan.mics if mic.piece == "kick")
        m = made(session, layering.take_way(m, "kick", "weight"))
        assert not [send for mic in m.plan.mics for send in mic.sends if send.id == "weight"]

    def test_refused(self, session):
        """An unknown way, a drum without a mic."""
        with pytest.raises(SettingsError, match="expected one of lift, shape"):
            layering.take_way(Measure(session), "kick", "magic")
        with pytest.raises(SettingsError, match="crash has no mic of its own"):
            layering.take_way(Measure(session), "crash", "shape")


def test_a_band_moves_from_a_measured_threshold(session):
    """The usual hit moves it all the way; asked of a filter that is not there, it is said."""
    bands = [{"kind": "bell", "frequency_hz": 200.0, "gain_db": 3.0}]
    apply(session.pk, {"mics.sn-top.tools.tone.bands": bands}, step="tone", title="a filter")
    session.refresh_from_db()
    m = made(session, rigging.move_band(session, "sn-top", "tone", 0, -6.0))
    (band,) = m.plan.mic("sn-top").tool("tone").bands
    assert (band.gain_db, band.range_db) == (3.0, -6.0)
    span = (0, m.recordings.length(m.plan.take))
    still = m.plan.mic("sn-top").tool("tone").replace(bands=(band.replace(range_db=0.0),))
    flat = change.put(m.plan, {"mics.sn-top.tools.tone": still.to_json()})
    a, b = (rendered(plan, recordings_of(session), span, "strip:sn-top") for plan in (flat, m.plan))
    hits = [h for h in m.hits["snare"] if not h.ghost]
    furthest = []
    for h in hits:
        at = round(h.time_s * m.rate)
        seen = np.abs(np.fft.rfft([x[at : at + 2400] * np.hanning(2400) for x in (a, b)], 1 << 14))
        furthest.append(20 * np.log10(seen[1] / seen[0])[round(200 * (1 << 14) / m.rate)])
    assert -6.5 < np.median(furthest) < -3.5
    with pytest.raises(SettingsError, match="has no filter 4"):
        rigging.move_band(session, "sn-top", "tone", 3, -6.0)
