"""Where a song calls for more: by how densely and how loudly it is played, and what comes up there."""

from dataclasses import dataclass

import pytest

from arkund.core.blend.arcs import intensities, propose
from arkund.core.plan import change
from arkund.core.plan.plan import MicPlan, Plan, Section, Tempo
from arkund.core.replace.made import Made
from arkund.core.rig import usual
from arkund.core.rig.scenes import Scene
from arkund.core.timing.bars import bars_of

TEMPO = Tempo(bpm=120.0)
BAR_S = 2.0
SECTIONS = (Section(name="verse", bar=0), Section(name="chorus", bar=8), Section(name="verse 2", bar=16))


@dataclass(frozen=True)
class Hit:
    time_s: float
    level_db: float
    ghost: bool = False


def song(chorus_strokes: int, chorus_db: float) -> dict:
    """A snare with four strokes a bar at -12 dB, in the chorus another number of them and louder; a hat and ghosts all along."""
    snare = []
    for bar in range(24):
        inside = 8 <= bar < 16
        count = chorus_strokes if inside else 4
        snare += [Hit(BAR_S * (bar + k / count), -12.0 + (chorus_db if inside else 0.0)) for k in range(count)]
        snare += [Hit(BAR_S * (bar + 0.9), -40.0, ghost=True)]
    hats = [Hit(BAR_S * (bar + k / 8), -20.0) for bar in range(24) for k in range(8)]
    return {"snare": snare, "hihat": hats}


def found(strokes: int, db: float, sections=SECTIONS):
    return intensities(song(strokes, db), sections, bars_of(TEMPO))


class TestIntensities:
    """Density and loudness, in decibels over the calmest section."""

    def test_by_hand(self):
        """Twice the strokes count for 4 dB; louder ones for what they are louder."""
        assert [each.over_db for each in found(8, 0.0)] == pytest.approx([0.0, 4.0, 0.0])
        assert [each.over_db for each in found(4, 3.0)] == pytest.approx([0.0, 3.0, 0.0])
        assert [each.strokes for each in found(8, 0.0)] == pytest.approx([4.0, 8.0, 4.0])

    def test_little_to_judge_by(self):
        """Without sections, without shells, and in a section of hardly any strokes nothing is said."""
        assert found(4, 0.0, ()) == []
        assert intensities({"hihat": song(4, 0.0)["hihat"]}, SECTIONS, bars_of(TEMPO)) == []
        short = (*SECTIONS, Section(name="end", bar=23))
        assert [each.name for each in found(4, 0.0, short)] == ["verse", "chorus", "verse 2"]


class TestPropose:
    """What comes up where."""

    PLAN = Plan(take="t", tempo=TEMPO, sections=SECTIONS, paths=(usual.sustain(level_db=-14.0),))

    def test_each_by_itself(self):
        """Half of what the chorus is over the verses: 2 dB of the path, a half of that of the rooms, and hats down by as much; each a note that may be left."""
        notes = propose(self.PLAN, found(8, 0.0))
        assert [note.title for note in notes] == [
            "In chorus: SUSTAIN path +2.0 dB", "In chorus: rooms group +1.0 dB", "In chorus: hats and cymbals group -1.0 dB",
        ]  # fmt: skip
        assert not any(note.first_choice for note in notes)
        plan = change.put(self.PLAN, notes[0].changes)
        (scene,) = plan.scenes
        assert (scene.sections, [(held.place, held.value) for held in scene.held]) == (
            ("chorus",),
            [("paths.sustain.level_db", -12.0)],
        )
        left = [note.title for note in propose(plan, found(8, 0.0))]
        assert left == [note.title for note in notes[1:]]

    @pytest.mark.parametrize(("strokes", "db", "lift"), [(4, 2.2, 1.1), (16, 6.0, 3.0)])
    def test_by_how_much(self, strokes, db, lift):
        """Between 1 and 3 dB."""
        assert propose(self.PLAN, found(strokes, db))[0].title == f"In chorus: SUSTAIN path +{lift:.1f} dB"

    def test_a_low_layer(self):
        """One that is made under the kick is left out of what is no chorus; not one that is off, or that a scene holds off already."""
        layer = MicPlan(id="low", name="Kick sine", piece="kick", role="layer", made=Made(strikes=((0, 1.0),)))
        plan = self.PLAN.replace(mics=(layer,))
        note = propose(plan, found(8, 0.0))[-1]
        assert note.title == "Only in chorus: Kick sine"
        (scene,) = change.put(plan, note.changes).scenes
        assert scene.sections == ("verse", "verse 2")
        assert [(held.place, held.value) for held in scene.held] == [("mics.low.mute", True)]
        for other in (plan.replace(mics=(layer.replace(mute=True),)), change.put(plan, note.changes)):
            assert all("sine" not in each.title for each in propose(other, found(8, 0.0)))

    @pytest.mark.parametrize(("strokes", "db"), [(4, 0.0), (5, 0.3)])
    def test_a_song_that_stays_as_it_is(self, strokes, db):
        """Nothing is proposed where no section stands out."""
        assert propose(self.PLAN, found(strokes, db)) == []

    def test_a_muted_path(self):
        """It comes up nowhere; neither does what another scene holds there."""
        muted = self.PLAN.replace(paths=tuple(path.replace(mute=True) for path in self.PLAN.paths))
        assert all("SUSTAIN" not in note.title for note in propose(muted, found(8, 0.0)))
        held = Scene.from_json(
            {
                "id": "mine",
                "name": "mine",
                "sections": ["chorus"],
                "held": [{"place": "groups.rooms.level_db", "value": 0.0}],
            }
        )
        assert all("rooms" not in note.title for note in propose(self.PLAN.replace(scenes=(held,)), found(8, 0.0)))
