"""Pages and their requests: every page answers, bad requests get a clear 4xx and change nothing."""

import json
import os
import re
import subprocess
import sys

import numpy as np
import pytest
from django.test import Client

from arkund.studio.models import Move, Session
from arkund.studio.services.findings import find
from arkund.studio.services.measuring import Measure
from arkund.studio.steps import STEPS
from tests.studio.doing import apply

pytestmark = pytest.mark.django_db


def post(client, path, body, **more):
    data = body if isinstance(body, (str, bytes)) else json.dumps(body)
    return client.post(path, data, content_type="application/json", **more)


class TestPages:
    """Each step's page and data, before and after everything was proposed."""

    @pytest.mark.parametrize("step", list(STEPS))
    def test_page_and_data(self, client, session, step):
        """The page asks its question; the data are numbers that JSON can carry."""
        page = client.get(f"/s/{session.pk}/{step}/")
        assert page.status_code == 200
        assert STEPS[step].question in page.content.decode()
        data = client.get(f"/s/{session.pk}/{step}/data")
        assert data.status_code == 200
        assert "NaN" not in data.content.decode()
        assert "Infinity" not in data.content.decode()
        assert data.json()["version"] == 0

    def test_reckoned(self, client, session):
        """Every sheet with what the session knows; what is typed is answered at its tempo, and refused in a sentence."""
        page = client.get(f"/s/{session.pk}/reckon/").content.decode()
        assert "SN top: fundamental" in page
        assert 'value="120"' in page
        lines = client.get(f"/s/{session.pk}/reckon/decay?ms=1/4").json()["lines"]
        assert {"words": "falls by 60 dB in", "text": "1.500 s"} in lines
        refused = client.get(f"/s/{session.pk}/reckon/decay?ms=soon")
        assert (refused.status_code, "1/8t" in refused.json()["error"]) == (400, True)

    def test_the_recall_sheet_tells_all(self, client, session):
        """Dynamic bands, resonances, upper bands of a shaper, joins and edits in time: what is not told cannot be set again."""
        tools = [
            {"kind": "tone", "id": "tone", "bands": [
                {"kind": "high_pass", "frequency_hz": 60.0, "resonance_db": 6.0, "compensated": True},
                {"kind": "bell", "frequency_hz": 400.0, "range_db": -6.0, "threshold_db": -28.0, "attack_ms": 7.0, "release_ms": 90.0},
            ]},
            {"kind": "shaper", "id": "shaper", "on": True, "above": [{"from_hz": 2500.0, "attack_db": 4.5, "sustain_db": -3.0}]},
        ]  # fmt: skip
        cuts = [
            {"at": 48_000, "shift": 480, "fade_ms": 2.0, "alike": 1.0},
            {"at": 96_000, "shift": 0, "fade_ms": 2.0, "alike": 1.0},
        ]
        apply(session.pk, {"mics.sn-top.tools": tools, "cuts": cuts}, step="tone", title="all of it")
        sheet = client.get(f"/s/{session.pk}/sheet/").content.decode()
        for told in ("resonance 6 dB, compensated", "dynamic: up to -6 dB above -28 dB, attack 7 ms, release 90 ms",
                     "from 2500 Hz: attack +4.5 dB, sustain -3 dB",
                     "all mics from 1.0000 s", "10.00 ms later", "as recorded"):  # fmt: skip
            assert told in sheet, told

    def test_a_drum_that_is_never_played(self, session):
        """Its mic is proposed to be left out of the mix, and nothing is lifted in it."""
        apply(session.pk, {"mics.t1.piece": "tom2"}, step="load", title="as if")
        m = Measure(Session.objects.get(pk=session.pk))
        m._hits = m.hits | {"tom2": []}
        notes = [note for note in find("clean", m) if note.key == "clean:unplayed:t1"]
        assert [note.changes for note in notes] == [{"mics.t1.mute": True}]
        assert not [note for note in find("tone", m) if note.place == "t1"]

    @pytest.mark.long
    def test_after_proposing(self, client, proposed):
        """All pages still answer, the rail counts what waits, logbook and sheet show it."""
        session = proposed
        for step in STEPS:
            assert client.get(f"/s/{session.pk}/{step}/data").status_code == 200, step
        data = client.get(f"/s/{session.pk}/level/data").json()
        assert set(data["open"]) == set(STEPS)
        assert data["open"]["level"] == {"open": sum(n["state"] == "open" for n in data["notes"]), "fresh": True}
        assert session.moves.last().title in client.get(f"/s/{session.pk}/logbook/").content.decode()
        sheet = client.get(f"/s/{session.pk}/sheet/").content.decode()
        assert "high-pass" in sheet
        assert re.search(r"attack</th><td class=\"fig\">[\d.]+ ms", sheet)
        assert "sent to sustain" in sheet
        assert not re.search(r"(delay|trim|level)</th><td class=\"fig\">(on|off)<", sheet)
        assert "85 dBA" in client.get(f"/s/{session.pk}/ear/").content.decode()

    def test_no_inline_script_or_style(self, client, session):
        """The strict policy is sent, and pages keep to it."""
        for path in ["/", *(f"/s/{session.pk}/{step}/" for step in STEPS), f"/s/{session.pk}/logbook/"]:
            answer = client.get(path)
            policy = answer.headers["Content-Security-Policy"]
            assert "unsafe" not in policy
            assert "default-src 'none'" in policy
            html = answer.content.decode()
            assert not re.search(r"\sstyle=|\son\w+=|javascript:", html), path
            assert all("src=" in s or "application/json" in s for s in re.findall(r"<script[^>]*>", html))
            assert not re.search(r'(?:src|href)="(?:https?:)?//', html)

    def test_data_in_pages_cannot_break_out(self, client, session):
        """A hostile name stays text."""
        plan = session.plan_json
        plan["mics"][0]["name"] = "</script><script>alert(1)</script>"
        Session.objects.filter(pk=session.pk).update(plan_json=plan, name="<img src=x>")
        html = client.get(f"/s/{session.pk}/load/").content.decode()
        assert "<script>alert" not in html
        assert "<img" not in html


class TestBadRequests:
    """Wrong types, ranges, keys and versions."""

    @pytest.mark.parametrize(
        "body",
        [
            "{",
            "[]",
            '"x"',
            {},
            {"changes": 3, "version": 0},
            {"changes": {}, "version": 0},
            {"changes": {"mics.kd-in.trim_db": 5}},
            {"changes": {"mics.kd-in.trim_db": 500}, "version": 0},
            {"changes": {"mics.kd-in.trim_db": "5"}, "version": 0},
            {"changes": {"mics.nobody.trim_db": 5}, "version": 0},
            {"changes": {"__class__": 5}, "version": 0},
            {"changes": {"mics.0.id": "x"}, "version": "0"},
            {"changes": {"mics.kd-in.trim_db": 1}, "version": 0, "step": "dance"},
            {"changes": {"mics.kd-in.tools.tone.bands": [{"kind": "wah"}]}, "version": 0},
            {"changes": {"cuts": [{"at": 5, "shift": 0}, {"at": 5, "shift": 1}]}, "version": 0},
            {"changes": {"mics.kd-in.trim_db": 1e999}, "version": 0},
        ],
        ids=str,
    )
    def test_moves(self, client, session, body):
        """A sentence in the answer, the Plan as before."""
        answer = post(client, f"/s/{session.pk}/moves", body)
        assert answer.status_code == 400
        assert len(answer.json()["error"]) > 10
        assert not Move.objects.exists()

    def test_stale_version(self, client, session):
        """409, with what changed meanwhile."""
        change = {"changes": {"mics.kd-in.trim_db": 1.0}, "version": 0}
        assert post(client, f"/s/{session.pk}/moves", change).status_code == 200
        answer = post(client, f"/s/{session.pk}/moves", change)
        assert answer.status_code == 409
        assert "changed meanwhile" in answer.json()["error"]

    @pytest.mark.parametrize(
        "body",
        [
            {"start": 0},
            {"start": 0, "stop": 48_000, "what": "drum:gong"},
            {"start": 48_000, "stop": 0},
            {"start": -5, "stop": 100},
            {"start": 0, "stop": 10**9},
            {"start": 0.5, "stop": 48_000},
            {"start": 0, "stop": 4800, "version": "maybe"},
            {"start": 0, "stop": 4800, "changes": {"x": 1}},
            {"start": 0, "stop": 4800, "what": "in:gong"},
            {"start": 0, "stop": 4800, "part": [0, 4801]},
            {"start": 0, "stop": 4800, "part": [0, "x"]},
            {"start": 0, "stop": 4800, "matched": 90.0},
        ],
        ids=str,
    )
    def test_auditions(self, client, session, body):
        """Nothing is rendered for a wrong question."""
        assert post(client, f"/s/{session.pk}/audition", body).status_code == 400

    @pytest.mark.parametrize(
        ("path", "body"),
        [
            ("quantise", {"version": 0, "settings": {"first_bar": 3, "last_bar": 1}}),
            ("quantise", {"version": 0, "settings": {"strength": 200}}),
            ("hit", {"version": 0, "change": {"kind": "explode"}}),
            ("hit", {"version": 0, "change": {"kind": "move", "piece": "snare", "time_s": 1.0}}),
            ("rig", {"version": 0, "do": "keep-hit", "piece": "gong"}),
            ("rig", {"version": 0, "do": "replace-hit", "piece": "snare", "time_s": 1.0, "capture": "paint"}),
            ("decide", {"version": 0, "step": "level", "key": "none", "verdict": "do"}),
            ("print-now", {"format": "mp3"}),
        ],
    )
    def test_actions(self, client, session, path, body):
        """Each says what it expected."""
        assert post(client, f"/s/{session.pk}/{path}", body).status_code == 400
        assert not Move.objects.exists()

    def test_what_is_not_there(self, client, session):
        """404 for sessions, mics, jobs and prints that do not exist."""
        for path in (
            "/s/999/load/",
            "/s/999/load/data",
            f"/s/{session.pk}/peaks/nobody/256",
            "/jobs/999",
            f"/s/{session.pk}/prints/9.zip",
        ):
            assert client.get(path).status_code == 404, path
        assert post(client, "/s/999/moves", {}).status_code == 404

    def test_reading_methods_change_nothing(self, client, session):
        """GET on an action is refused."""
        for path in ("moves", "undo", "redo", "propose", "hit", "print-now"):
            assert client.get(f"/s/{session.pk}/{path}").status_code == 405

    def test_csrf(self, session):
        """A post from elsewhere is refused."""
        strict = Client(enforce_csrf_checks=True)
        assert post(strict, f"/s/{session.pk}/undo", {}).status_code == 403

    def test_foreign_host_names(self, client, session):
        """Only the names that were set are answered."""
        assert client.get("/", headers={"host": "evil.example"}).status_code == 400

    def test_upload_without_files(self, client, db):
        """The text says what to choose."""
        answer = client.post("/load", {})
        assert answer.status_code == 400
        assert "choose the folder" in answer.json()["error"]


class TestAudition:
    """What the listening bar gets."""

    def hear(self, client, session, **body):
        answer = post(client, f"/s/{session.pk}/audition", {"start": 120_000, "stop": 168_000, **body})
        assert answer.status_code == 200
        return np.frombuffer(answer.content, np.float32).reshape(2, -1), json.loads(answer.headers["X-Audition"])

    def test_planar_floats(self, client, session):
        """Two channels of the asked length, below full scale."""
        audio, about = self.hear(client, session)
        assert audio.shape == (2, 48_000)
        assert 0.01 < np.abs(audio).max() <= 0.981
        assert about["rate"] == 48_000

    def test_a_change_is_tried_without_a_move(self, client, session):
        """The sound changes, the Plan does not."""
        plain, _ = self.hear(client, session, what="drum:snare")
        tried, _ = self.hear(
            client,
            session,
            what="drum:snare",
            changes={"mics.sn-top.tools.tone.bands": [{"kind": "high_pass", "frequency_hz": 3000.0}]},
        )
        assert np.mean(tried**2) < 0.5 * np.mean(plain**2)
        assert not Move.objects.exists()

    def test_before_and_after_at_equal_loudness(self, client, session):
        """A trim of +6 dB is heard at the same loudness, and the match is said."""
        change = {"changes": {"mics.sn-top.trim_db": 6.0, "mics.snr-btm.trim_db": 6.0}, "version": 0, "step": "level"}
        post(client, f"/s/{session.pk}/moves", change)
        before, about_before = self.hear(client, session, what="drum:snare", version="before", step="level")
        after, about = self.hear(client, session, what="drum:snare", version="after", step="level")
        assert about["matched_db"] == pytest.approx(-6.0, abs=0.05)
        assert about["loudness"] == pytest.approx(about_before["loudness"], abs=0.1)
        assert np.allclose(before, after, atol=1e-3)

    @pytest.mark.parametrize("what", ["kit", "drum:snare", "in:snare", "alone:sn-top", "change", "key:sn-top/gate"])
    def test_a_part_of_the_loop_first(self, client, session, what):
        """At the loop's gain, with nothing faded."""
        change = {"changes": {"mics.sn-top.trim_db": 3.0}, "version": 0, "step": "level"}
        post(client, f"/s/{session.pk}/moves", change)
        whole, about = self.hear(client, session, what=what, step="level")
        part, _ = self.hear(
            client, session, what=what, step="level", part=[130_000, 140_000], matched=about["matched_db"]
        )
        assert part.shape == (2, 10_000)
        assert np.abs(part).max() > 1e-4
        rounded = 10 ** (0.005 / 20) - 1  # the match is said to 0.01 dB
        assert part == pytest.approx(whole[:, 10_000:20_000], rel=1.1 * rounded, abs=4e-5)

    def test_only_what_changed(self, client, session):
        """Nothing changed: silence."""
        audio, _ = self.hear(client, session, what="change", step="tone")
        assert np.abs(audio).max() == 0.0


class TestActions:
    """Hits, bars and samples through the pages' requests."""

    def act(self, client, session, path, **body):
        session.refresh_from_db()
        answer = post(client, f"/s/{session.pk}/{path}", {"version": session.version, **body})
        assert answer.status_code == 200, answer.content
        return answer.json()

    def test_add_and_remove_a_hit(self, client, session):
        """Counts follow, undo brings it back."""
        hits = lambda: client.get(f"/s/{session.pk}/load/data").json()["chart"]["hits"]["snare"]
        count = len(hits())
        self.act(client, session, "hit", change={"kind": "add", "piece": "snare", "time_s": 0.777})
        assert len(hits()) == count + 1
        self.act(client, session, "undo")
        assert len(hits()) == count

    def test_quantise_and_take_back(self, client, session):
        """A bar is pulled, the deviations shrink, undo restores them."""
        spread = lambda: max(
            abs(h[3])
            for h in client.get(f"/s/{session.pk}/timing/data").json()["chart"]["hits"]
            if h[1] == 1 and h[0] in ("kick", "snare") and not h[4]
        )
        self.act(client, session, "moves", changes={"tempo.first_bar_s": 2.4}, step="timing")
        before = spread()
        self.act(client, session, "quantise", settings={"first_bar": 1, "last_bar": 1, "grid": 16, "tolerance_ms": 0.0})
        assert spread() < before
        self.act(client, session, "undo")
        assert spread() == before

    def test_capture_place_and_layer(self, client, session):
        """A captured snare stands in for a hit, and lies under all."""
        data = client.get(f"/s/{session.pk}/replace/data?of=snare").json()["chart"]
        first, third = data["hits"][0][0], data["hits"][2][0]
        self.act(client, session, "rig", do="keep-hit", piece="snare", time_s=first)
        session.refresh_from_db()
        (kept,) = session.plan.captures
        self.act(client, session, "rig", do="replace-hit", piece="snare", time_s=third, capture=kept.id)
        self.act(client, session, "rig", do="lay-hits", piece="snare", captures=[kept.id], into=True)
        session.refresh_from_db()
        (layer,) = [mic for mic in session.plan.mics if mic.is_layer]
        assert len(layer.strikes) == len(data["hits"])
        assert layer.into == "sn-top"
        shelf = client.get(f"/s/{session.pk}/replace/data?of=snare").json()["chart"]["shelf"]
        assert shelf[0]["used"] == ["snare hits", "1 replaced"]
        assert len(client.get(f"/s/{session.pk}/shelf/{kept.id}").content) == 4 * (kept.before + kept.length)
        self.act(client, session, "rig", do="put-back", time_s=third)
        session.refresh_from_db()
        assert session.plan.placements == ()

    def test_findings_are_done_or_left(self, client, session):
        """Done: the change stands. Left: the reason stands."""
        notes = client.get(f"/s/{session.pk}/level/data").json()["notes"]
        doable = [n for n in notes if n["can_do"]]
        self.act(client, session, "decide", step="level", key=doable[0]["key"], verdict="do")
        self.act(client, session, "decide", step="level", key=doable[1]["key"], verdict="leave", reason="I like it")
        again = {n["key"]: n for n in client.get(f"/s/{session.pk}/level/data").json()["notes"]}
        assert again[doable[1]["key"]]["state"] == "left"
        assert again[doable[1]["key"]]["reason"] == "I like it"
        assert again.get(doable[0]["key"], {"state": "done"})["state"] == "done"


class TestStartPage:
    """There at once, whatever the other pages need."""

    @pytest.mark.long
    def test_imports_no_computation(self, tmp_path):
        """A fresh process answers for it without the libraries that take seconds to import; any other page fetches them."""
        ask = (
            "import sys, django; django.setup()\n"
            "from arkund.studio.cli.group import migrate; migrate()\n"
            "from django.test import Client; client = Client(headers={'host': '127.0.0.1'})\n"
            "first = client.get('/').status_code, 'numba' in sys.modules\n"
            "print(first, client.get('/s/9/load/').status_code, 'numba' in sys.modules)"
        )
        env = os.environ | {"ARKUND_DATA": str(tmp_path), "DJANGO_SETTINGS_MODULE": "arkund.studio.settings"}
        done = subprocess.run([sys.executable, "-c", ask], env=env, capture_output=True, text=True, check=True)
        assert done.stdout.strip() == "(200, False) 404 True"
