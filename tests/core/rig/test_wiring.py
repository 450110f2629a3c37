"""What may go where: everything else is refused in a sentence that names it."""

import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan.change import put
from arkund.core.plan.plan import MicPlan, Plan, Struck
from arkund.core.rig import usual
from arkund.core.rig.hearing import Listening, audible, hearing
from arkund.core.rig.places import all_of, named, with_strip
from arkund.core.rig.rows import added, moved, put_all, removed
from arkund.core.rig.rows import put as put_tool
from arkund.core.rig.strips import Group, Kit, Path, Send
from arkund.core.rig.wiring import group_id
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.gate import Gate
from arkund.core.tools.tone import Tone
from arkund.core.tools.tool import MOST_TOOLS, Key


def plan_of(**more) -> Plan:
    mics = (
        MicPlan(id="kd", name="Kick", piece="kick", role="in", tools=usual.mic_row()),
        MicPlan(
            id="sn",
            name="Snare",
            piece="snare",
            role="top",
            tools=usual.mic_row(),
            sends=(Send(id="punch", level_db=0.0),),
        ),
        MicPlan(id="oh", name="Over", piece="kit", role="overhead"),
    )
    return Plan(take="t", **({"mics": mics, "paths": (usual.punch(), usual.sustain()), "kit": usual.kit()} | more))


def keyed(of: str, **more) -> Compressor:
    return Compressor(key=Key(of=of), **more)


class TestCheck:
    """Each of these leaves the Plan as it was."""

    @pytest.mark.parametrize(
        ("changes", "words"),
        [
            ({"mics.kd.tools": [{"kind": "flanger"}]}, r"mics\.kd\.tools\.0\.kind: unknown tool 'flanger'; known are regions, gate, leveller"),
            ({"mics.kd.tools": [{"threshold_db": 3}]}, r"mics\.kd\.tools\.0\.kind: unknown tool None"),
            ({"mics.kd.tools": [{"kind": "gate"}, {"kind": "gate"}]}, "tools: 'gate' stands there twice"),
            ({"mics.kd.tools": [{"kind": "tone", "id": f"t{k}"} for k in range(200)]}, "at most 64 in a row, got 200"),
            ({"mics.kd.group": "brass"}, r"mics\.kd\.group: no group 'brass'; there are cymbals, kick"),
            ({"mics.kd.sends": [{"id": "glow", "level_db": 0.0}]}, r"mics\.kd\.sends: no path 'glow'; there are punch, sustain"),
            ({"paths.punch.into": "brass"}, r"paths\.punch\.into: no group 'brass'"),
            ({"groups": []} | {"mics.kd.group": "kick"}, r"mics\.kd\.group: no group 'kick'; there are none"),
            ({"mics.sn.tools.gate.key.of": "mic:gone"}, r"mics\.sn\.tools\.gate\.key\.of: no mic 'gone'; there are kd, oh, sn"),
            ({"mics.sn.tools.gate.key.of": "drum:crash"}, "no drum with a mic of its own 'crash'; there are kick, snare"),
            ({"mics.sn.tools.gate.key.of": "hits:snare"}, "no kept strikes of 'snare'; there are none"),
            ({"mics.sn.tools.gate.key.of": "the kick"}, "expected mic:, drum:, group: or hits: with a name"),
            ({"kit.tools.compressor.key.of": "group:brass"}, r"kit\.tools\.compressor\.key\.of: no group 'brass'"),
            ({"paths": []}, r"mics\.sn\.sends: no path 'punch'; there are none"),
            ({"paths.sustain.id": "punch"}, "paths: 'punch' stands there twice"),
            ({"paths.punch.sends": [{"id": "sustain"}], "paths.sustain.sends": [{"id": "punch"}]}, "in a circle: .*PUNCH.*SUSTAIN"),
            ({"groups.kick.sends": [{"id": "punch", "level_db": 0.0}], "paths.punch.into": "kick"}, "in a circle: .*kick.*PUNCH"),
            ({"mics.kd.tools.compressor.key.of": "group:kick"}, "in a circle: .*Kick.*kick"),
        ],
    )  # fmt: skip
    def test_refused(self, changes, words):
        """What and where, and what there is instead."""
        plan = plan_of()
        with pytest.raises(SettingsError, match=words):
            put(plan, changes)
        assert plan == plan_of()

    def test_what_goes(self):
        """Paths into later ones, groups into paths, keys from elsewhere, strikes that are kept."""
        changes = {
            "paths.punch.sends": [{"id": "sustain", "level_db": -6.0}],
            "groups.kick.sends": [{"id": "punch", "level_db": 0.0}],
            "paths.sustain.into": "rooms",
            "struck": [Struck(piece="snare", strikes=((5, -6.0),)).to_json()],
            "mics.kd.tools.compressor.key.of": "hits:snare",
            "kit.tools.compressor.key.of": "group:kick",
        }
        assert put(plan_of(), changes).paths[1].into == "rooms"


class TestGroups:
    """Where a mic goes."""

    def test_by_what_it_is_or_as_it_is_put(self):
        """By piece and role where there is such a group, else straight to the kit."""
        plan = plan_of()
        assert [group_id(mic, plan.groups) for mic in plan.mics] == ["kick", "snare", "overheads"]
        fewer = put(plan, {"groups": [Group(id="all", name="all").to_json()], "mics.oh.group": "all"})
        assert [group_id(mic, fewer.groups) for mic in fewer.mics] == ["", "", "all"]


def listened(changes: dict) -> tuple[Plan, Listening]:
    """Return a Plan with changes, and what is soloed and muted for listening."""
    solo, mute = (frozenset(changes.get(name, "").split()) for name in ("solo", "listening mute"))
    return put(plan_of(), {k: v for k, v in changes.items() if "." in k or k == "take"}), Listening(solo, mute)


class TestHearing:
    """Off in the mix; solo and mute for listening."""

    @pytest.mark.parametrize(
        ("changes", "mics", "paths", "dry"),
        [
            ({}, "kd sn oh", "punch sustain", True),
            ({"mics.kd.mute": True}, "sn oh", "punch sustain", True),
            ({"groups.snare.mute": True}, "kd oh", "punch sustain", True),
            ({"solo": "mic:sn"}, "sn", "punch sustain", True),
            ({"solo": "group:kick", "mics.kd.mute": True}, "", "punch sustain", True),
            ({"solo": "path:punch"}, "kd sn oh", "punch", False),
            ({"solo": "path:punch mic:sn"}, "sn", "punch", True),
            ({"solo": "path:punch", "paths.punch.mute": True}, "kd sn oh", "", False),
            ({"listening mute": "mic:kd path:punch"}, "sn oh", "sustain", True),
            ({"listening mute": "group:snare", "solo": "mic:sn"}, "", "punch sustain", True),
        ],
    )
    def test_what_is_heard(self, changes, mics, paths, dry):
        """Of three mics and two paths."""
        plan, listening = listened(changes | {"take": "t"})
        found = hearing(plan, listening)
        assert found.mics == set(mics.split())
        assert found.paths == set(paths.split())
        assert found.dry == dry
        assert [mic.id for mic in audible(plan)] == [
            mic.id for mic in plan.mics if not mic.mute and hearing(plan).sounds(f"mic:{mic.id}")
        ]

    @pytest.mark.parametrize(
        ("changes", "groups"),
        [
            ({}, "kick snare overheads"),
            ({"solo": "mic:sn"}, "snare overheads"),
            ({"solo": "mic:sn", "groups.overheads.mute": True}, "snare"),
            ({"solo": "mic:sn", "paths.punch.mute": True}, "snare"),
        ],
    )
    def test_a_path_is_heard_through_its_group(self, changes, groups):
        """Where a mic is soloed, what it sends comes through the group that the path goes into."""
        plan, listening = listened({"paths.punch.into": "overheads"} | changes)
        assert hearing(plan, listening).groups & {"kick", "snare", "overheads"} == set(groups.split())


class TestRows:
    """Tools added, moved and taken out."""

    ROW = (Gate(), Tone(), Compressor())

    def test_a_new_tool_stands_where_its_kind_does(self):
        """Before those that usually come later, under an id of its own, or where it is wanted."""
        assert [tool.id for tool in added(self.ROW, Tone())] == ["gate", "tone", "tone-2", "compressor"]
        assert [tool.id for tool in added(self.ROW, Gate(), at=3)] == ["gate", "tone", "compressor", "gate-2"]

    def test_moved_and_removed(self):
        """At most to an end; what is not there is said."""
        assert [tool.id for tool in moved(self.ROW, "gate", 9)] == ["tone", "compressor", "gate"]
        assert [tool.id for tool in moved(self.ROW, "compressor", -1)] == ["gate", "compressor", "tone"]
        assert [tool.id for tool in removed(self.ROW, "tone")] == ["gate", "compressor"]
        with pytest.raises(SettingsError, match="no tool 'grit' in this row; there are gate, tone, compressor"):
            removed(self.ROW, "grit")

    def test_a_proposal_finds_its_place(self):
        """The first tool of the kind, or a new one."""
        plan = plan_of()
        gate = Gate(on=True, threshold_db=-20.0)
        assert list(put_tool("mics.kd", plan.mic("kd"), gate)) == ["mics.kd.tools.gate"]
        made = put(plan, put_all("mics.oh", plan.mic("oh"), Compressor(on=True), gate))
        assert [tool.kind for tool in made.mic("oh").tools] == ["gate", "compressor"]


class TestPlaces:
    """Strips by name."""

    def test_every_strip(self):
        """Mics, groups, paths, kit; a mic by its id alone as well."""
        plan = plan_of()
        assert [each.name for each in all_of(plan)][-3:] == ["path:punch", "path:sustain", "kit"]
        assert named(plan, "kd") == named(plan, "mic:kd")
        assert named(plan, "group:snare").place == "groups.snare"
        assert with_strip(plan, "path:punch", mute=True).paths[0].mute
        assert with_strip(plan, "kit", level_db=-3.0).kit.level_db == -3.0
        with pytest.raises(SettingsError, match="no 'path:glow'; there are mic:kd"):
            named(plan, "path:glow")

    def test_recipes(self):
        """Each is a path that a Plan takes."""
        paths = tuple(make() for make in usual.PATHS.values())
        assert all(isinstance(path, Path) for path in plan_of(paths=paths).paths)

    @pytest.mark.parametrize("strip", [Kit, lambda **row: Group(id="g", name="g", **row)])
    def test_no_row_is_endless(self, strip):
        """The kit's own neither."""
        row = tuple(Gate(id=f"gate-{k}") for k in range(MOST_TOOLS))
        assert len(strip(tools=row).tools) == MOST_TOOLS
        with pytest.raises(SettingsError, match=f"at most {MOST_TOOLS} in a row"):
            strip(tools=(*row, Gate(id="more")))
