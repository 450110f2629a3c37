"""Blend: what the kit's compressor takes is what is said, and the first balance follows the kit."""

import numpy as np
import pytest

from arkund.core.blend.first_mix import LEVELS_DB, FirstMix, place_of
from arkund.core.blend.measure import reduction, threshold_for
from arkund.core.blend.propose import KIT_REDUCTION_DB, kit_start, propose_headroom, propose_kit, propose_mix
from arkund.core.dsp.loudness import measure
from arkund.core.errors import SettingsError
from arkund.core.plan.change import get, parse, put
from arkund.core.plan.plan import Capture, Cut, Placement, Plan
from arkund.core.render.render import render
from arkund.core.rig import usual
from arkund.core.rig.strips import OFF_DB, Kit
from arkund.core.tools.compressor import Compressor

RATE = 48_000


class TestReduction:
    """Measured by running the compressor, not read off its curve."""

    def test_steady_tone(self):
        """A settled level shows the static reduction."""
        audio = np.full((RATE, 2), 10 ** (-8 / 20), np.float32)
        settings = Compressor(on=True, threshold_db=-20.0, ratio=4.0, knee_db=0.0, makeup_db=5.0)
        found = reduction(audio, settings, RATE)
        assert found.deepest_db == pytest.approx(9.0, abs=0.05)
        assert len(found.time_s) == len(found.reduction_db)

    def test_threshold_for(self, straight):
        """At the returned threshold the deepest reduction is the wanted one within 0.15 dB."""
        span = (0, straight.samples)
        mix = render(straight.plan, straight, span, "mix")
        start = kit_start(Kit())
        threshold = threshold_for(mix, start, KIT_REDUCTION_DB, RATE)
        assert reduction(mix, start.replace(threshold_db=threshold), RATE).deepest_db == pytest.approx(
            KIT_REDUCTION_DB, abs=0.15
        )

    def test_meters(self):
        """Peak, true peak and loudness of silence are no error."""
        found = measure(np.zeros((RATE, 2), np.float32), RATE)
        assert found.peak_db < -150


class TestPropose:
    """Places, sends and the kit."""

    def test_mix(self, straight):
        """Shells are sent, sub and overheads are not; pairs go to the sides."""
        plan = put(straight.plan, {"mics.OH L.side": "L", "mics.OH R.side": "R"})
        first = FirstMix(-5.5, (usual.sustain(level_db=-3.0),))
        note = propose_mix(plan, first)
        made = put(straight.plan, note.changes)
        assert made.paths == first.paths
        assert {group.level_db for group in made.groups} == {-5.5}
        assert "10 LU softer" in note.evidence
        assert [path.id for path in made.paths] == ["sustain"]
        assert made.mic("SN top").send_db("sustain") == 0.0
        assert made.mic("T1").send_db("sustain") == -4.0
        for other in ("Kik sub", "OH L", "Rm L", "HH"):
            assert made.mic(other).send_db("sustain") == OFF_DB
        assert (made.mic("OH L").pan, made.mic("OH R").pan) == (-1.0, 1.0)
        assert made.mic("Rm L").level_db == LEVELS_DB["room"]

    def test_the_level_leaves_headroom(self, straight):
        """A kit at -1 dBFS is lowered by 5 dB."""
        note = propose_kit(straight.plan, -1.0, 2.0, -17.3)
        assert note.changes["kit.level_db"] == pytest.approx(-5.0)
        assert note.changes["kit.tools.compressor"]["threshold_db"] == -17.3
        put(straight.plan, note.changes)

    def test_silence_is_not_raised(self, straight):
        """A kit of which nothing is heard keeps its level."""
        assert propose_kit(straight.plan, -180.0, -180.0, -20.0).changes["kit.level_db"] == straight.plan.kit.level_db
        assert propose_headroom(straight.plan, -180.0) is None

    def test_places(self, straight):
        """The drummer's left is the picture's left."""
        assert place_of(straight.plan.mic("HH"), "") < 0 < place_of(straight.plan.mic("FT"), "")


class TestPlan:
    """The whole Plan as data."""

    def test_there_and_back(self, straight):
        """JSON and back is the same Plan."""
        assert Plan.from_json(straight.plan.to_json()) == straight.plan

    def test_paths(self, straight):
        """get and put by readable paths, by id or by number."""
        plan = put(straight.plan, {"mics.T1.tools.gate.threshold_db": -31.5, "mics.0.trim_db": 2.0})
        assert get(plan, "mics.T1.tools.gate.threshold_db") == -31.5
        assert plan.mics[0].trim_db == 2.0
        assert straight.plan.mics[0].trim_db == 0.0

    @pytest.mark.parametrize(
        ("path", "words"),
        [("mics.X.trim_db", "no 'X' here"), ("kit.sparkle", "unknown key 'sparkle'"), ("tempo.bpm.x", "none below")],
    )
    def test_unknown_paths(self, straight, path, words):
        """The text lists what there is."""
        with pytest.raises(SettingsError, match=words):
            put(straight.plan, {path: 1.0})

    def test_consistency(self, straight):
        """Cuts in order, hits in the place of others that exist, ids once."""
        with pytest.raises(SettingsError, match="cuts"):
            straight.plan.replace(cuts=(Cut(at=9, shift=1), Cut(at=5, shift=0)))
        with pytest.raises(SettingsError, match="capture"):
            straight.plan.replace(placements=(Placement(capture="x"),))
        with pytest.raises(SettingsError, match="stands there twice"):
            straight.plan.replace(mics=(straight.plan.mics[0],) * 2)
        capture = Capture(id="x", piece="snare", take="t", at=5, length=10)
        assert straight.plan.replace(captures=(capture,), placements=(Placement(capture="x"),)).placements

    @pytest.mark.parametrize(
        ("text", "value"),
        [("-3", -3), ("true", True), ("2.5", 2.5), ('{"on": true}', {"on": True}), ("take-2", "take-2")],
    )
    def test_parse(self, text, value):
        """Command-line values are JSON or text."""
        assert parse(text) == value
