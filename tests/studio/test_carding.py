"""The kit's card of a session, and the kit brought to a school's targets."""

import json

import numpy as np
import pytest
import soundfile

from arkund.core.card.raw import raw_plan
from arkund.core.card.targets import FIGURES
from arkund.core.errors import CancelledError, SettingsError
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, listening, proposing, settling
from arkund.studio.services.importing import import_folder
from arkund.studio.services.measuring import Measure
from arkund.studio.services.unattended import Unattended
from tests.studio.doing import apply


def half_later(audio: np.ndarray) -> np.ndarray:
    """Return a sound half a sample later, exactly: each of its frequencies turned by what that is of its period."""
    spectrum = np.fft.rfft(audio, 2 * audio.size)
    turns = np.exp(-1j * np.pi * np.fft.rfftfreq(2 * audio.size))
    return np.fft.irfft(spectrum * turns)[: audio.size]


pytestmark = pytest.mark.django_db


class TestCard:
    """Raw and now."""

    def test_before_anything(self, session):
        """With nothing set what changes against the raw kit is nothing, but for levels and places."""
        rows = {row.figure.key: row for row in carding.card(Measure(session), "punchy")}
        assert list(rows) == [figure.key for figure in FIGURES]
        assert rows["bleed"].value == pytest.approx(0.0, abs=0.05)
        assert rows["attack"].value == pytest.approx(0.0, abs=0.6)
        assert rows["bleed_toms"].off > 10.0

    def test_unknown_school(self, session):
        """Said with those that there are."""
        with pytest.raises(SettingsError, match="expected one of natural, punchy, heavy"):
            carding.card(Measure(session), "loud")


class TestSettled:
    """The one click."""

    def test_brought_there(self, session):
        """Far more figures hold than before; each correction is a Move with what it reached; the raw kit stays raw; the same again
        brings nothing new and the same Plan.
        """
        proposing.propose_all(session.pk)
        measure = Measure(Session.objects.get(pk=session.pk))
        rows = carding.card(measure, "punchy")
        told = [row for row in rows if row.value is not None]
        off = [row.figure.key for row in told if row.off > 0.05]
        assert len(off) <= 2, off
        assert not {"density", "headroom", "attack", "bleed_toms"} & set(off)
        titles = [move.title for move in session.moves.filter(state=Move.DONE)]
        assert any("true peak over loudness" in title and "→" in title for title in titles)
        before = measure.plan
        raw = raw_plan(before)
        assert not any(mic.tools or mic.level_db or mic.trim_db for mic in raw.mics)
        assert not raw.paths
        assert raw.kit.tools == ()
        assert listening.without(before, "kit") == raw
        if not off:
            settling.settle(Unattended(session.pk))
            assert Session.objects.get(pk=session.pk).plan == before

    @pytest.mark.long
    def test_however_it_was_recorded(self, session, folder, little, tmp_path):
        """The same files come to the same Plan, to the byte; 6 dB softer and half a sample later they come to the same figures."""
        later = tmp_path / "softer and later"
        later.mkdir()
        for name, audio in little.audio.items():
            soundfile.write(later / f"{name}.wav", 0.5012 * half_later(audio), little.sample_rate_hz, subtype="PCM_24")
        cards, plans = [], []
        for each in (session, import_folder(folder, bpm=120.0), import_folder(later, bpm=120.0)):
            proposing.propose_all(each.pk)
            measure = Measure(Session.objects.get(pk=each.pk))
            cards.append(carding.card(measure, "punchy"))
            plans.append(json.dumps(measure.plan.to_json()))
        assert plans[0] == plans[1]
        pairs = zip(cards[0], cards[2], strict=True)
        apart = {a.figure.key: abs(a.value - b.value) for a, b in pairs if a.value is not None}
        assert max(apart.values()) < 0.3, apart

    @pytest.mark.long
    def test_a_heavy_kit_is_cleaned_tight(self, session):
        """Its toms are silent between their hits, without anybody choosing a look; one that was chosen stays."""
        apply(session.pk, {"school": "heavy"}, step="kit", title="heavy")
        proposing.propose_all(session.pk)
        session.refresh_from_db()
        assert session.plan.cleaning.look == "tight"
        rows = {row.figure.key: row for row in carding.card(Measure(session), "heavy")}
        assert rows["bleed_toms"].off == 0.0

    def test_cancelled(self, session):
        """Between two rounds; nothing is left behind."""
        before = session.plan
        with pytest.raises(CancelledError, match="can be undone"):
            settling.settle(Unattended(session.pk), cancelled=lambda: True)
        assert Session.objects.get(pk=session.pk).plan == before

    @pytest.mark.long
    @pytest.mark.parametrize("gone", ["all but one", "overhead", "kick"])
    def test_without(self, session, gone):
        """No kick mic, no overheads, one mic alone: what can be done is done, nothing breaks."""
        mics = session.plan.mics
        muted = [
            mic.id
            for k, mic in enumerate(mics)
            if mic.piece == gone or mic.role == gone or (gone == "all but one" and k != 2)
        ]
        apply(session.pk, {f"mics.{mic}.mute": True for mic in muted}, step="load", title="gone")
        settling.settle(Unattended(session.pk))
        rows = carding.card(Measure(Session.objects.get(pk=session.pk)), "punchy")
        assert next(row for row in rows if row.figure.key == "headroom").off <= 0.2


def test_the_command_line(session, capsys):
    """Figures by name, for the session's school and another one."""
    from arkund.studio.cli.main import main

    main(["kit", str(session.pk), "--json"], standalone_mode=False)
    told = json.loads(capsys.readouterr().out)
    assert told["school"] == "punchy"
    assert {"key", "raw", "now", "value", "target", "off"} <= set(told["figures"][0])
    lost = {row["key"]: row for row in told["lost"]}
    assert lost["top"]["target"] == [-3.0, 3.0]
    assert all(row["now"] == row["raw"] for row in lost.values())  # nothing was done yet
    main(["kit", str(session.pk), "--school", "heavy"], standalone_mode=False)
    assert "true peak over loudness" in capsys.readouterr().out
