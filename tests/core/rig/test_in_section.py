"""Settings that are made in a section: which scene holds them, and what holds where."""

import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan, Section
from arkund.core.plan.scenes import by_section
from arkund.core.rig import changes
from arkund.core.rig.scenes import Held, Scene
from arkund.core.timing.bars import section_spans_s

SECTIONS = (
    Section(name="verse", bar=0),
    Section(name="chorus", bar=4),
    Section(name="verse", bar=8),
    Section(name="end", bar=12),
)
PLACE, OTHER = "groups.snare.level_db", "mics.sn.level_db"


def plan(*scenes: Scene) -> Plan:
    mic = MicPlan(id="sn", name="SN", piece="snare", role="top")
    return Plan(take="take-1", mics=(mic,), sections=SECTIONS, scenes=scenes)


def after(before: Plan, section: str, **values) -> Plan:
    """Return the Plan with settings made in a section; names stand for the two places."""
    given = {{"group": PLACE, "mic": OTHER}[name]: value for name, value in values.items()}
    made = changes.in_section(before, section, given, "louder")
    return change.put(before, made.values)


def levels(of: Plan) -> list[float]:
    return [change.get(part, PLACE) for part, _ in by_section(of)]


class TestInSection:
    """The hand in one cell."""

    def test_a_scene_of_its_own(self):
        """Made under the section's name, and used again; of sections that share a name both hold it."""
        made = after(plan(), "verse", group=3.0)
        (scene,) = made.scenes
        assert (scene.name, scene.sections) == ("verse", ("verse",))
        assert levels(made) == [3.0, 0.0, 3.0, 0.0]
        again = after(made, "verse", mic=-2.0)
        assert len(again.scenes) == 1
        both = after(again, "chorus", group=5.0)
        assert levels(both) == [3.0, 5.0, 3.0, 0.0]
        assert [s.name for s in both.scenes] == ["verse", "chorus"]

    def test_as_in_the_song(self):
        """Set back, the scene holds it no more."""
        made = after(after(plan(), "chorus", group=3.0), "chorus", group=0.0)
        assert levels(made) == [0.0] * 4
        assert made.scenes[0].held == ()

    def test_where_another_scene_holds_it(self):
        """That one is changed, and it is said where else it holds; what it does not hold goes into the section's own."""
        wide = Scene(id="lift", name="Lift", sections=("chorus", "end"), held=(Held(place=PLACE, value=2.0),))
        made = changes.in_section(plan(wide), "chorus", {PLACE: 4.0, OTHER: 1.0}, "louder")
        assert made.title == "chorus: louder (also in end)"
        new = change.put(plan(wide), made.values)
        assert levels(new) == [0.0, 4.0, 0.0, 4.0]
        assert [(s.name, len(s.held)) for s in new.scenes] == [("Lift", 1), ("chorus", 1)]

    def test_refused(self):
        """No such section; nothing a scene could hold."""
        with pytest.raises(SettingsError, match="no section 'bridge'; there are verse, chorus"):
            changes.in_section(plan(), "bridge", {PLACE: 1.0}, "t")
        with pytest.raises(SettingsError, match="cannot be held"):
            changes.in_section(plan(), "verse", {"mics.sn.repair": True}, "t")


def test_where_sections_sound():
    """From line to line; the first with the song's beginning, the last to its end; in a song that is too short they end with it."""
    spans = section_spans_s(plan(), 30.0)
    assert spans == [(0.0, 8.0), (8.0, 16.0), (16.0, 24.0), (24.0, 30.0)]
    assert section_spans_s(plan(), 10.0) == [(0.0, 8.0), (8.0, 10.0), (10.0, 10.0), (10.0, 10.0)]
    assert section_spans_s(Plan(take="take-1"), 10.0) == []
