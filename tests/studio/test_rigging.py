"""The rig changed by services and by what pages ask for: tools, keys, groups and paths; a former archive comes back the same."""

import base64
import json
from pathlib import Path

import numpy as np
import pytest
import soundfile

from arkund.core.errors import SettingsError, StaleError
from arkund.core.plan.plan import SCHEMA
from arkund.core.rig import changes
from arkund.studio.models import Move
from arkund.studio.services import archiving, layering, moves, rigging
from arkund.studio.services.measuring import Measure
from arkund.studio.services.printing import print_session
from tests.studio.doing import apply, made

pytestmark = pytest.mark.django_db
FORMER = Path(__file__).parent / "fixtures"


def tools(session, strip: str) -> list[str]:
    session.refresh_from_db()
    return [tool.id for tool in session.plan.mic(strip).tools]


def change(session, what, *args):
    """Change the rig as it stands now."""
    session.refresh_from_db()
    of = session if what is rigging.set_key else session.plan
    return rigging.make(session, what(of, *args))


class TestTools:
    """Each is a Move, and can be taken back."""

    def test_add_move_copy_remove(self, session):
        """A second compressor goes where it is wanted; the other strip gets the settings."""
        change(session, changes.add_tool, "sn-top", "compressor")
        assert tools(session, "sn-top") == ["gate", "tone", "shaper", "compressor", "compressor-2"]
        change(session, changes.move_tool, "sn-top", "compressor-2", -3)
        assert tools(session, "sn-top") == ["gate", "compressor-2", "tone", "shaper", "compressor"]
        apply(session.pk, {"mics.sn-top.tools.compressor-2.ratio": 7.0}, step="punch", title="7:1")
        session.refresh_from_db()
        change(session, changes.copy_tool, "sn-top", "compressor-2", ["group:kick", "mic:kd-in"])
        session.refresh_from_db()
        assert [(tool.id, tool.ratio) for tool in session.plan.groups[0].tools] == [("compressor", 7.0)]
        assert session.plan.mic("kd-in").first("compressor").ratio == 7.0
        change(session, changes.remove_tool, "sn-top", "gate")
        assert "gate" not in tools(session, "sn-top")
        while moves.undo(session.pk):
            pass
        assert tools(session, "sn-top") == ["gate", "tone", "shaper", "compressor"]

    def test_what_is_not_there(self, session):
        """Is said, and nothing is changed."""
        with pytest.raises(SettingsError, match="no tool 'grit-7' in this row; there are gate"):
            change(session, changes.remove_tool, "sn-top", "grit-7")
        with pytest.raises(SettingsError, match="no 'path:glow'"):
            change(session, changes.add_tool, "path:glow", "gate")
        with pytest.raises(SettingsError, match="unknown tool 'flanger'"):
            change(session, changes.add_tool, "sn-top", "flanger")
        assert not Move.objects.exists()

    def test_effects(self, session):
        """What a tool does is what its settings say, at hits and between."""
        settings = {
            "mics.sn-top.tools.compressor": {"kind": "compressor", "on": True, "threshold_db": 0.0, "makeup_db": 5.0},
            "mics.sn-top.tools.gate": {"kind": "gate", "on": True, "threshold_db": -24.0, "range_db": 30.0, "release_ms": 30.0},
        }  # fmt: skip
        apply(session.pk, settings, step="punch", title="t")
        session.refresh_from_db()
        found = Measure(session).effects("mic:sn-top")
        assert (found["compressor"].hits_db, found["compressor"].between_db) == pytest.approx((5.0, 5.0), abs=0.1)
        assert found["gate"].hits_db > -0.5
        assert found["gate"].between_db < -6.0
        assert "shaper" not in found
        assert Measure(session).effects("group:snare") == {}


class TestKeys:
    """What a detector listens to."""

    def test_strikes_are_frozen(self, session):
        """As they are found now, with their levels; a piece without hits is refused."""
        change(session, changes.add_tool, "group:overheads", "compressor")
        session.refresh_from_db()
        change(session, rigging.set_key, "group:overheads", "compressor", "hits:snare")
        session.refresh_from_db()
        (struck,) = session.plan.struck
        assert len(struck.strikes) == len(Measure(session).hits["snare"])
        assert session.plan.groups[4].tools[0].key.of == "hits:snare"
        with pytest.raises(SettingsError, match="no hits of 'crash'"):
            change(session, rigging.set_key, "group:overheads", "compressor", "hits:crash")
        change(session, changes.add_tool, "sn-top", "grit")
        session.refresh_from_db()
        with pytest.raises(SettingsError, match="a grit listens to nothing"):
            change(session, rigging.set_key, "sn-top", "grit", "mic:kd-in")
        with pytest.raises(SettingsError, match="in a circle"):
            change(session, rigging.set_key, "sn-top", "compressor", "group:snare")


class TestStrips:
    """Groups and paths."""

    def test_a_path_comes_and_goes(self, session):
        """With all that is sent to it."""
        change(session, changes.add_path, "crush")
        session.refresh_from_db()
        sends = {
            "mics.sn-top.sends": [{"id": "crush", "level_db": -3.0}],
            "groups.kick.sends": [{"id": "crush", "level_db": 0.0}],
        }
        apply(session.pk, sends, step="blend", title="sends")
        session.refresh_from_db()
        change(session, changes.remove_path, "crush")
        session.refresh_from_db()
        assert session.plan.paths == ()
        assert session.plan.mic("sn-top").sends == session.plan.groups[0].sends == ()
        moves.undo(session.pk)
        session.refresh_from_db()
        assert session.plan.mic("sn-top").send_db("crush") == -3.0
        with pytest.raises(SettingsError, match="unknown 'glue'; known are punch"):
            change(session, changes.add_path, "glue")

    def test_a_group_comes_and_goes(self, session):
        """Its members go back where they belong."""
        change(session, changes.add_group, "Low drums", ["kd-in"])
        session.refresh_from_db()
        assert session.plan.mic("kd-in").group == "low-drums"
        change(session, changes.rename, "group:low-drums", "Bottom")
        session.refresh_from_db()
        assert session.plan.groups[-1].name == "Bottom"
        change(session, changes.remove_group, "low-drums")
        session.refresh_from_db()
        assert session.plan.mic("kd-in").group == ""
        with pytest.raises(SettingsError, match="name: one is needed"):
            change(session, changes.add_group, "  ")

    def test_by_a_page(self, client, session):
        """The same, by what a page sends; a stale page is told."""

        def ask(**body):
            return client.post(f"/s/{session.pk}/rig", json.dumps(body), content_type="application/json")

        assert (
            ask(do="add-tool", step="punch", strip="kit", kind="tone", version=0).json()["title"] == "kit: tone added"
        )
        assert session.moves.get().step == "punch"
        assert ask(do="add-tool", strip="kit", kind="tone", version=0).status_code == 409
        assert ask(do="fly", version=1).status_code == 400
        assert ask(do="add-tool", step="sweep", strip="kit", kind="tone", version=1).status_code == 400
        assert ask(do="copy-tool", strip="kit", tool="tone", others=[], version=1).status_code == 400
        assert client.get(f"/s/{session.pk}/blend/data?of=kit").json()["chart"]["row"]["tools"][0]["id"] == "tone"


class TestScenes:
    """Settings that hold in sections."""

    @pytest.fixture
    def lifted(self, session):
        """A session of two sections with a scene in the second."""
        sections = [{"name": "verse", "bar": 0}, {"name": "chorus", "bar": 2}]
        apply(session.pk, {"sections": sections}, step="timing", title="sections")
        change(session, changes.add_path, "crush")
        change(session, changes.add_scene, "Lift", ["chorus"])
        return session

    def held(self, session) -> dict:
        session.refresh_from_db()
        return {each.place: each.value for each in session.plan.scenes[0].held}

    def ask(self, client, session, where, **body):
        session.refresh_from_db()
        body = json.dumps({"version": session.version} | body)
        return client.post(f"/s/{session.pk}/{where}", body, content_type="application/json")

    def test_by_a_page(self, client, lifted):
        """What a page changes in a scene is held there alone; as it was, it is let go; the page shows the Plan of the scene."""
        sends = [{"id": "crush", "level_db": -6.0}]
        changed = {"mics.sn-top.sends": sends, "mics.sn-top.level_db": -3.0, "paths.crush.level_db": 2.0}
        assert (
            self.ask(client, lifted, "moves", changes=changed, scene="lift", step="blend", title="louder").status_code
            == 200
        )
        wanted = {"mics.sn-top.sends.crush.level_db": -6.0, "mics.sn-top.level_db": -3.0, "paths.crush.level_db": 2.0}
        assert self.held(lifted) == wanted
        assert lifted.plan.mic("sn-top").level_db == 0.0
        assert lifted.moves.last().title == "Lift: louder"
        data = client.get(f"/s/{lifted.pk}/blend/data?scene=lift").json()
        assert next(row for row in data["chart"]["rows"] if row["id"] == "sn-top")["level_db"] == -3.0
        assert [(each["words"], each["usual"]) for each in data["scenes"][0]["held"]][:2] == [
            ("SN top: send to CRUSH", -60.0),
            ("SN top: level", 0.0),
        ]
        self.ask(client, lifted, "moves", changes={"mics.sn-top.level_db": 0.0}, scene="lift", title="as before")
        self.ask(client, lifted, "moves", changes={"mics.sn-top.sends": []}, scene="lift", title="closed again")
        assert self.held(lifted) == {"paths.crush.level_db": 2.0}
        assert client.get(f"/s/{lifted.pk}/blend/data?scene=gone").json()["scene"] == ""
        assert (
            "lift: mics.sn-top.level_db: -3 dB → as in the song"
            in client.get(f"/s/{lifted.pk}/logbook/").content.decode()
        )
        sheet = client.get(f"/s/{lifted.pk}/sheet/").content.decode()
        assert "scene Lift" in sheet
        assert "bars 3 to the end" in sheet

    def test_a_layer_through_a_mic(self, client, lifted):
        """Replace shows its level as it is in the scene, and what is set there holds in the scene alone."""
        m = made(lifted, layering.add(Measure(lifted), "kick", "sine"))
        m = made(lifted, layering.through(m, "kick-sine", "kd-in"))
        level_db = {"mics.kick-sine.level_db": 3.0}
        self.ask(client, lifted, "moves", changes=level_db, scene="lift", step="replace", title="up")
        assert self.held(lifted) == level_db
        for scene, wanted_db in (("lift", 3.0), ("", m.plan.mic("kick-sine").level_db)):
            data = client.get(f"/s/{lifted.pk}/replace/data?of=kick&scene={scene}").json()
            assert [row["level_db"] for row in data["chart"]["made"]] == [wanted_db]

    def test_a_send_that_closes(self, client, lifted):
        """Is held closed where the rest of the song has it open; what is sent elsewhere stays as it is."""
        change(lifted, changes.add_path, "punch")
        sends = [{"id": "crush", "level_db": -3.0}, {"id": "punch", "level_db": 0.0}]
        apply(lifted.pk, {"mics.sn-top.sends": sends}, step="blend", title="sent")
        self.ask(client, lifted, "moves", changes={"mics.sn-top.sends": sends[1:]}, scene="lift")
        assert self.held(lifted) == {"mics.sn-top.sends.crush.level_db": -60.0}

    def test_two_at_once(self, lifted):
        """What was worked out on a Plan that has changed meanwhile is not written over it."""
        lifted.refresh_from_db()
        before, late = lifted.version, changes.settings(lifted.plan, {"kit.level_db": -3.0}, "late", "lift")
        values = changes.settings(lifted.plan, {"paths.crush.level_db": 1.0}, "first", "lift").values
        apply(lifted.pk, values, step="blend", title="first")
        with pytest.raises(StaleError):
            rigging.make(lifted, late, version=before)
        assert self.held(lifted) == {"paths.crush.level_db": 1.0}

    def test_what_goes_is_let_go(self, client, lifted):
        """A tool or path that is taken away leaves the scenes with the same Move, and comes back with it."""
        lifted.refresh_from_db()
        values = {"paths.crush.level_db": 2.0, "mics.sn-top.tools.gate.on": True}
        apply(lifted.pk, changes.settings(lifted.plan, values, "held", "lift").values, step="blend", title="held")
        change(lifted, changes.remove_path, "crush")
        change(lifted, changes.remove_tool, "sn-top", "gate")
        assert self.held(lifted) == {}
        moves.undo(lifted.pk)
        moves.undo(lifted.pk)
        assert self.held(lifted) == values

    @pytest.mark.parametrize(
        ("body", "words"),
        [
            (
                {"do": "add-scene", "name": "B", "bars": [[90, 99]]},
                "bars: 91 to 99 are not in the song, which has bars 1 to",
            ),
            ({"do": "add-scene", "name": "B", "sections": ["bridge"]}, "no section 'bridge'; there are verse, chorus"),
            ({"do": "add-scene", "name": " "}, "name: one is needed"),
            ({"do": "set-scene", "scene": "nothing", "fade_ms": 20.0}, "no scene 'nothing'; there are lift"),
            ({"do": "set-scene", "scene": "lift", "fade_ms": 0.0}, "fade_ms: 0 ms is outside 1 to 10000 ms"),
            ({"do": "add-scene", "name": "B", "bars": [[1]]}, "bars: expected pairs"),
        ],
    )
    def test_bad_input(self, client, lifted, body, words):
        """It is said what and where; nothing is changed."""
        lifted.refresh_from_db()
        before = lifted.plan
        answer = self.ask(client, lifted, "rig", **body)
        assert answer.status_code == 400
        assert words in answer.json()["error"]
        lifted.refresh_from_db()
        assert lifted.plan == before

    def test_what_no_scene_holds(self, client, lifted):
        """Time, names, and rows of tools."""
        for changes_, words in (
            ({"mics.sn-top.line_up.delay_ms": 1.0}, "cannot be held by a scene"),
            ({"mics.sn-top.level_db": 99.0}, "outside -60 to 12 dB"),
            ({"mics.sn-top.tools": []}, "add or take away in the whole song"),
            ({"mics.sn-top.level_db": [1]}, "add or take away in the whole song"),
            ({"mics.sn-top.sends": [1]}, "expected an object"),
            ({"mics.sn-top.sends": [{"id": "crush", "level_db": "loud"}]}, "expected a number"),
        ):
            answer = self.ask(client, lifted, "moves", changes=changes_, scene="lift")
            assert (answer.status_code, words in answer.json()["error"]) == (400, True), answer.json()


class TestFormerArchives:
    """What was packed before strips had rows of tools."""

    def test_opens_and_prints_the_same(self, tmp_path):
        """Every output within -120 dBFS of what was printed then."""
        kept = json.loads((FORMER / "schema-1.json").read_text())["print"]
        session = archiving.restore(FORMER / "schema-1.zip")
        assert session.plan_json["schema"] == SCHEMA
        print_session(session, tmp_path / "out", "wav32f")
        names = {path.name[3:].replace("Path PUNCH", "Stem punch"): path for path in (tmp_path / "out").glob("*.wav")}
        for name, was in kept.items():
            audio, _ = soundfile.read(names[name[3:]], dtype="float32", always_2d=True)
            part = np.frombuffer(base64.b64decode(was["part"]), np.float32).reshape(-1, was["shape"][1])
            assert list(audio.shape) == was["shape"], name
            assert np.abs(audio[was["at"] :][: len(part)] - part).max() < 1e-6, name

    def test_its_logbook_can_be_read(self, client, tmp_path):
        """Every Move stands there; none is undone or done again, and it is said why. What follows can be."""
        session = archiving.restore(FORMER / "schema-1.zip")
        page = client.get(f"/s/{session.pk}/logbook/").content.decode()
        assert "Box out" in page
        assert "it can be read, not undone" in page
        for back in (moves.undo, moves.redo):
            with pytest.raises(SettingsError, match="in words alone"):
                back(session.pk)
        data = client.get(f"/s/{session.pk}/tone/data").json()
        assert (data["undo"], data["redo"]) == (None, None)
        apply(session.pk, {"mics.snare-top.tools.gate.range_db": 9.0}, step="clean", title="less")
        assert moves.undo(session.pk).title == "less"
        session.refresh_from_db()
        again = archiving.restore(archiving.archive(session, tmp_path / "again.zip"))
        assert [m.schema for m in again.moves.all()] == [1] * 8 + [SCHEMA]


class TestDrawnTools:
    """Tools that follow a mic's own hits are added with what is measured."""

    @pytest.mark.parametrize(("kind", "rows"), [("regions", "spans"), ("leveller", "strikes")])
    def test_added_with_the_hits(self, session, kind, rows):
        """So that switching one on does what it says, and a group has none."""
        rigging.make(session, rigging.add_tool(session, "kd-in", kind))
        session.refresh_from_db()
        tool = session.plan.mic("kd-in").first(kind)
        assert not tool.on
        assert len(getattr(tool, rows)) > 3
        for strip in ("group:kick", "oh-l"):
            with pytest.raises(SettingsError, match=f"{kind}: (follows the hits|belongs to a mic)"):
                rigging.make(session, rigging.add_tool(session, strip, kind))
