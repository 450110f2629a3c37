"""Made sounds under a drum, as Moves: at its note, never against it, wherever its hits go; and what is said of the low end."""

import json

import numpy as np
import pytest

from arkund.core.errors import SettingsError
from arkund.core.kit.pieces import timing_mic
from arkund.core.replace.layers import split_hz
from arkund.studio.models import Session
from arkund.studio.services import archiving, layering, moves
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import print_session
from arkund.studio.services.recordings import recordings_of
from arkund.studio.services.rendering import rendered
from tests.stages import through
from tests.studio.doing import made


class TestLay:
    """A sine, a thump."""

    @pytest.mark.parametrize("sort", ["sine", "thump"])
    def test_the_sum_is_never_weaker_than_its_louder_part(self, session, sort):
        """With its first settings, in the drum's low end, whatever the polarity of the recording."""
        m = Measure(session)
        inner = timing_mic(m.plan.mics, "kick")
        for inverted in (False, True):
            moves.apply(session.pk, {f"mics.{inner.id}.line_up.inverted": inverted}, step="lineup", title="polarity")
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
            moves.apply(session.pk, ghost, step="replace", title="a ghost")
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
