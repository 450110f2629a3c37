"""Styles worked out beside each other: nothing is changed until one is used, and then what was heard."""

import json

import numpy as np
import pytest
import soundfile
from django.test import Client
from scipy import signal

from arkund.core.autokit.objective import objective_of
from arkund.core.card.own_style import OwnStyle
from arkund.core.card.reference import figures_of_mix
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan import change
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, kit_solver, styles, taking_in
from arkund.studio.services.kit_solver import ProposedMove
from arkund.studio.services.measuring import Measure
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db


def now(session) -> Session:
    return Session.objects.get(pk=session.pk)


class TestWorkOut:
    """What a style would do."""

    def test_nothing_is_changed(self, session):
        """It is kept for the Plan as it stands, and known no more once that has changed."""
        deeds = styles.work_out(session, "heavy")
        assert not session.moves.exists()
        assert styles.known(Measure(session), "heavy") == deeds
        assert styles.known(Measure(session), "natural") is None
        apply(session.pk, {"groups.snare.level_db": -1.0}, step="blend", title="by hand")
        assert styles.known(Measure(now(session)), "heavy") is None

    @pytest.mark.parametrize("style", ["", "soft", "x" * 400])
    def test_unknown(self, session, style):
        """It is refused by name."""
        with pytest.raises(SettingsError, match="style: expected one of natural, punchy, heavy"):
            styles.work_out(session, style)

    def test_stopped(self, session):
        """Nothing is kept."""
        with pytest.raises(CancelledError):
            styles.work_out(session, "heavy", cancelled=lambda: True)
        assert styles.known(Measure(session), "heavy") is None


class TestUse:
    """What was worked out becomes Moves."""

    @pytest.fixture
    def worked_out(self, session, monkeypatch) -> Session:
        """A session for which heavy was worked out: two deeds."""
        deeds = [
            ProposedMove({"groups.kick.level_db": 2.0}, "Kick group +2.0 dB", "For a reason."),
            ProposedMove({"kit.level_db": -3.0}, "Kit level -3.0 dB", ""),
        ]
        monkeypatch.setattr(kit_solver, "worked_out", lambda *_: deeds)
        styles.work_out(session, "heavy")
        return session

    def test_what_was_heard(self, worked_out):
        """The Plan after it is the one that was tried on; the style comes first, each is a Move of a job, and one undo takes back one of them."""
        row = next(each for each in styles.told(Measure(worked_out)) if each["style"] == "heavy")
        made = styles.use(worked_out.pk, "heavy", worked_out.version)
        assert [move.title for move in made] == ["Style: heavy", "Kick group +2.0 dB", "Kit level −3.0 dB"]
        assert all(move.unattended for move in made)
        assert now(worked_out).plan == change.put(worked_out.plan, row["changes"])
        assert row["deeds"] == ["Kick group +2.0 dB", "Kit level −3.0 dB"]

    def test_not_as_it_stands(self, worked_out):
        """What was worked out for another Plan, or not at all, is refused, and nothing is changed."""
        version = worked_out.version
        apply(worked_out.pk, {"groups.snare.level_db": -1.0}, step="blend", title="by hand")
        for style, of in (("heavy", version), ("heavy", version + 1), ("natural", version + 1)):
            with pytest.raises(SettingsError, match="was not worked out for the kit as it stands"):
                styles.use(worked_out.pk, style, of)
        assert worked_out.moves.filter(state=Move.DONE).count() == 1

    def test_from_the_page(self, worked_out):
        """The page is told the deeds, and asks for them."""
        client = Client()
        rows = client.get(f"/s/{worked_out.pk}/kit/data").json()["chart"]["styles"]
        assert [(row["style"], row["chosen"], row["deeds"] is None) for row in rows] == [
            ("natural", False, True), ("punchy", True, True), ("heavy", False, False),
        ]  # fmt: skip
        ask = lambda name, **body: client.post(
            f"/s/{worked_out.pk}/{name}", json.dumps(body), content_type="application/json"
        )
        assert ask("work-out", style="loud").status_code == 400
        answer = ask("use-style", style="heavy", version=worked_out.version).json()
        assert answer["said"] == "3 deeds, told under What I did"
        assert now(worked_out).plan.school == "heavy"


class TestOwn:
    """Styles of one's own, taken from a kit."""

    def test_kept_and_used(self, session, monkeypatch):
        """Its ranges hold the kit that it was taken from; another session is worked towards it, and its card shows the kit as a reference."""
        apply(session.pk, {"groups.snare.level_db": -2.0}, step="blend", title="by hand")
        styles.keep(now(session), "  Garage  ")
        rows = {row["style"]: row for row in styles.told(Measure(now(session)))}
        assert [(name, row["own"]) for name, row in rows.items()][-1] == ("Garage", True)
        apply(session.pk, rows["Garage"]["sets"], step="kit", title="Style: Garage")
        card = carding.card(Measure(now(session)), "punchy")
        known = [row for row in card if row.value is not None and row.figure.key != "headroom"]
        assert len(known) > 5
        assert all(row.off == 0.0 and row.reference == pytest.approx(row.value, abs=0.01) for row in known)
        seen = []
        monkeypatch.setattr(
            kit_solver, "objective_of", lambda *given: seen.append(given[2].name) or objective_of(*given)
        )
        styles.work_out(now(session), "Garage")
        assert seen == ["Garage"]
        styles.remove("Garage")
        assert now(session).plan.own_style.name == "Garage"

    def test_back_to_the_table(self, session):
        """A style of the table lets go of one's own."""
        styles.keep(session, "Garage")
        apply(session.pk, styles.settings_of("Garage"), step="kit", title="own")
        apply(session.pk, styles.settings_of("heavy"), step="kit", title="heavy")
        assert (now(session).plan.school, now(session).plan.own_style) == ("heavy", None)

    @pytest.mark.parametrize("name", ["", "  ", "heavy", "\n"])
    def test_names(self, session, name):
        """One without a name, or with one of the table's, is refused; so is one that is not there."""
        with pytest.raises(SettingsError, match="needs a name of its own"):
            styles.keep(session, name)
        with pytest.raises(SettingsError, match="no style of your own"):
            styles.remove(name)

    def test_from_the_page(self, session):
        """Kept and removed."""
        client = Client()
        ask = lambda **body: client.post(
            f"/s/{session.pk}/keep-style", json.dumps(body), content_type="application/json"
        )
        assert "Garage kept" in ask(name="Garage").json()["said"]
        assert [row.name for row in styles.own_styles(None)] == ["Garage"]
        assert ask(name="Garage", remove=True).status_code == 200
        assert ask(name="Garage", remove=True).status_code == 400


class TestKeepMix:
    """A style of a finished mix."""

    def test_as_far_as_a_mix_tells(self, session, tmp_path):
        """Its density against this session's raw kit, its slope and its mono loss; all else as the session's style, and no Move."""
        rng = np.random.default_rng(31)
        noise = np.cumsum(rng.normal(0.0, 0.001, (20 * 48_000, 2)), axis=0)
        path = tmp_path / "Night Drive.wav"
        soundfile.write(
            path, signal.sosfilt(signal.butter(2, 30.0, "highpass", fs=48_000, output="sos"), noise, axis=0), 48_000
        )
        move, said = taking_in.take_in(session, [path], "reference")
        assert move is None
        assert said.startswith("style Night Drive kept")
        own = OwnStyle.from_json(styles.settings_of("Night Drive")["own_style"])
        assert {each.key for each in own.ranges} == {"density", "slope", "mono"}
        raw = {row.figure.key: row.raw for row in carding.card(Measure(session), "punchy")}
        mix = figures_of_mix(path)
        assert next(each.reference for each in own.ranges if each.key == "density") == pytest.approx(
            float(np.clip(mix["density"] - raw["density"], -7.0, 1.0)), abs=0.01
        )
        assert not session.moves.exists()
        apply(session.pk, styles.settings_of("Night Drive"), step="kit", title="Style: Night Drive")
        rows = {row.figure.key: row for row in carding.card(Measure(now(session)), "punchy")}
        assert rows["slope"].reference == pytest.approx(mix["slope"], abs=0.01)
        assert rows["toms"].reference is None

    def test_a_name_of_the_table(self, session, tmp_path):
        path = tmp_path / "heavy.wav"
        soundfile.write(path, np.random.default_rng(3).normal(0.0, 0.1, (48_000, 2)), 48_000)
        with pytest.raises(SettingsError, match="needs a name of its own"):
            styles.keep_mix(session, path)
