"""The account of what jobs did: in the order of what is heard, each deed taken back by itself, the same on pages, command line and prints."""

import json

import pytest
from click.testing import CliRunner
from django.test import Client

from arkund.core.errors import SettingsError
from arkund.core.findings import capital
from arkund.studio.cli.main import main
from arkund.studio.models import Session
from arkund.studio.services import account, listening, moves, reverting
from arkund.studio.services.importing import import_folder
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import print_session

pytestmark = pytest.mark.django_db

DEEDS = (
    ("level", "Hi-hat -0.2 dB", {"mics.hh.trim_db": -0.2}),
    ("kit", "Kick group -9 dB", {"groups.kick.level_db": -9.0}),
    ("kit", "Kit level -1 dB", {"kit.level_db": -1.0}),
    ("kit", "Snare group -3 dB", {"groups.snare.level_db": -3.0}),
    ("print", "Kit level -2 dB", {"kit.level_db": -2.0}),
)


@pytest.fixture
def numbers(session) -> dict[str, int]:
    """A hand's Move, and what a job did, by title."""
    made = {}
    for step, title, changes in (("level", "by hand", {"mics.kd-in.trim_db": -1.0}), *DEEDS):
        version = Session.objects.get(pk=session.pk).version
        unattended = title != "by hand"
        given = {"step": step, "title": title, "measured": f"because of {title}"}
        made[title] = moves.apply(session.pk, changes, version=version, unattended=unattended, **given).number
    session.refresh_from_db()
    return made


def told(session) -> account.Account:
    return account.account(Session.objects.get(pk=session.pk))


class TestAccount:
    """What is told, and in which order."""

    def test_largest_first(self, session, numbers):
        """A kick 9 dB down before a snare 3 dB down before a hat 0.2 dB down; a level of the whole is not heard. Not told: a hand's Move, and what was set
        again since.
        """
        deeds = told(session).deeds
        assert [deed.number for deed in deeds[:3]] == [
            numbers[title.replace("−", "-")] for title in ("Kick group -9 dB", "Snare group -3 dB", "Hi-hat -0.2 dB")
        ]
        assert [deed.size for deed in deeds[3:]] == ["not heard"]
        assert numbers["Kit level -1 dB"] not in [deed.number for deed in deeds]
        assert [deed.whose for deed in deeds] == ["kick", "snare", "hi-hat", "whole kit"]
        assert deeds[0].why == "because of Kick group -9 dB"
        assert deeds[0].effect_db > 2.0 * deeds[2].effect_db

    def test_one_undone(self, session, numbers):
        """It keeps its place and its size, and can be done again; what was set by hand stays."""
        sizes = [deed.effect_db for deed in told(session).deeds]
        made = reverting.revert(session.pk, numbers["Snare group -3 dB"])
        deeds = told(session).deeds
        assert [deed.effect_db for deed in deeds] == sizes
        assert [deed.undone for deed in deeds] == [False, True, False, False]
        assert deeds[1].reverted_by == made.number
        session.refresh_from_db()
        assert session.plan.mic("kd-in").trim_db == -1.0
        reverting.revert(session.pk, made.number)
        assert not any(deed.undone for deed in told(session).deeds)

    def test_another_session_of_the_same_recordings(self, session, numbers, folder):
        """Has sizes of its own, though its Moves have the same numbers and titles."""
        told(session)
        other = import_folder(folder, bpm=120.0)
        changes = {"mics.hh.trim_db": -9.0}
        for number, (step, title, _) in enumerate((("level", "by hand", {}), *DEEDS[:1]), 1):
            version = Session.objects.get(pk=other.pk).version
            moves.apply(
                other.pk,
                changes if number == 2 else {"mics.t1.trim_db": -1.0},
                step=step,
                title=title,
                version=version,
                unattended=number == 2,
            )
        mine = next(deed for deed in told(session).deeds if deed.number == 2)
        theirs = next(deed for deed in told(other).deeds if deed.number == 2)
        assert mine.title == theirs.title
        assert theirs.effect_db > 4.0 * mine.effect_db

    def test_heard_without(self, session, numbers):
        """Before is without that deed alone; a Move that is not there is refused."""
        without = reverting.without(session, session.plan, numbers["Kick group -9 dB"])
        assert {group.id: group.level_db for group in without.groups}["kick"] == 0.0
        assert without.kit == session.plan.kit
        rate, step = session.sample_rate_hz, f"move:{numbers['Kick group -9 dB']}"
        ask = lambda **more: listening.audition(
            session, session.plan, listening.Question((0, 2 * rate), step=step, **more)
        )
        plain = listening.audition(session, without, listening.Question((0, 2 * rate), step="tone"))
        assert (ask(version="before").audio == plain.audio).all()
        assert ask().matched_db > 0.1  # with it it is softer, and brought up
        with pytest.raises(SettingsError, match="no Move 0"):
            listening.audition(session, session.plan, listening.Question((0, rate), step="move:x"))

    def test_twelve_and_the_rest(self, session):
        """More than twelve are folded by drum."""
        paths = [f"mics.{mic.id}.{field}" for mic in session.plan.mics for field in ("pan", "level_db")][:14]
        for path in (*paths, "mics.hh.line_up.delay_ms"):
            version = Session.objects.get(pk=session.pk).version
            moves.apply(session.pk, {path: -0.4}, step="blend", title=path, version=version, unattended=True)
        found = told(session)
        assert len(found.deeds) == 15
        assert len(found.first) == account.MOST_FIRST
        assert sum(map(len, found.folded.values())) == 3
        for whose, mine in found.folded.items():
            assert any(line.startswith(f"  {capital(whose)}: {mine[0].title}") for line in found.lines())

    def test_nothing_yet(self, session):
        """Before the one click there is nothing to tell of."""
        assert told(session).deeds == []


class TestEverywhere:
    """The same account wherever it is read."""

    def test_page(self, session, numbers):
        """The page's data, and a deed taken back from it."""
        client = Client()
        assert client.get(f"/s/{session.pk}/account/").status_code == 200
        data = client.get(f"/s/{session.pk}/account/data").json()
        assert [deed["title"] for deed in data["chart"]["deeds"]] == [deed.title for deed in told(session).deeds]
        assert data["chart"]["first"] == 4
        body = json.dumps({"move": numbers["Kick group -9 dB"]})
        answer = client.post(f"/s/{session.pk}/revert", body, content_type="application/json").json()
        assert answer["title"] == "Undone: Kick group −9 dB"
        assert client.get(f"/s/{session.pk}/account/data").json()["chart"]["deeds"][0]["undone"]

    def test_command_line(self, session, numbers):
        """The account as text, and one deed taken back by its number."""
        run = lambda *given: CliRunner().invoke(main, ["account", str(session.pk), *given], catch_exceptions=False)
        text = run().output
        assert "Kick group −9 dB" in text
        assert text.index("Kick group") < text.index("Snare group")
        undone = json.loads(run("--undo", str(numbers["Snare group -3 dB"]), "--json").output)
        assert undone["title"] == "Undone: Snare group −3 dB"

    def test_beside_a_print(self, session, numbers, tmp_path):
        """A page that stands by itself, named by no manifest's file, fetched like one."""
        session.refresh_from_db()
        print_session(session, tmp_path / "out", "wav24")
        page = (tmp_path / "out" / "account.html").read_text(encoding="utf-8")
        assert "Kick group −9 dB" in page
        assert "src=" not in page
        printed = session.prints.first()
        assert Client().get(f"/s/{session.pk}/prints/{printed.pk}/account.html").status_code == 200
        rows = Client().get(f"/s/{session.pk}/print/data").json()["chart"]["prints"]
        assert [row["account"] for row in rows] == [True]

    def test_nothing_to_tell(self, session, tmp_path, monkeypatch):
        """A session that no job touched is printed without anything being measured for it."""
        monkeypatch.setattr(account, "account", lambda *_: pytest.fail("measured"))
        print_session(session, tmp_path / "out", "wav24")
        assert not (tmp_path / "out" / "account.html").exists()

    def test_measured_once(self, session, numbers, monkeypatch):
        """What was measured of a deed is known from then on, whatever changes."""
        account.deeds(session, Measure(session))
        moves.apply(session.pk, {"groups.toms.level_db": -2.0}, step="blend", title="more", version=session.version)
        monkeypatch.setattr(account, "rendered", lambda *_: pytest.fail("measured again"))
        fresh = Session.objects.get(pk=session.pk)
        assert len(account.deeds(fresh, Measure(fresh))) == 4
