"""Plans of former schemas: what was stored then prints the same now."""

import json
from pathlib import Path

import pytest

from arkund.core.errors import SettingsError
from arkund.core.plan.change import put
from arkund.core.plan.plan import SCHEMA, Plan
from arkund.core.plan.template import changes_of
from arkund.core.plan.versions import read_plan, upgrade
from tests import golden

FORMER = json.loads((Path(__file__).parents[2] / "studio" / "fixtures" / "schema-1.json").read_text())["plan"]
CASES = {case["name"]: case for case in golden.cases()}
QUICK = ("everything on", "joins of takes", "mute and solo")


class TestRenderings:
    """Against what was rendered before strips had rows of tools; ``python -m tests.golden`` tells it of all cases."""

    @pytest.mark.parametrize("name", QUICK)
    def test_the_same(self, name):
        """Spans and whole prints within -120 dBFS, the strips of all mics to the last bit."""
        same, count, apart_db = golden.verdict(CASES[name])
        assert apart_db < -120.0
        spans = sum(not output.startswith("printed ") for output in CASES[name]["kept"])
        if name == "mute and solo":  # what was soloed is no part of a print any more
            assert count == spans
        else:
            assert same >= sum(output.startswith("printed strip:") for output in CASES[name]["kept"])
            assert count == len(CASES[name]["kept"])


class TestUpgrade:
    """From plain data to plain data."""

    def test_what_was_set_is_where_it_belongs(self):
        """Tools by the names of their kinds, paths and groups by their ids, the bus as the kit."""
        plan = read_plan(FORMER)
        kick, snare = plan.mic("kick-in"), plan.mic("snare-top")
        assert [tool.id for tool in kick.tools] == ["gate", "tone", "shaper", "compressor"]
        assert (snare.first("gate").on, snare.first("gate").threshold_db) == (True, -30.0)
        assert kick.first("tone").bands[0].frequency_hz == 300.0
        assert (kick.send_db("punch"), snare.send_db("punch"), snare.send_db("sustain")) == (0.0, -3.0, -60.0)
        assert (snare.pan, kick.trim_db) == (0.2, -1.5)
        assert [(path.id, path.mute, path.level_db) for path in plan.paths] == [
            ("punch", False, -9.0),
            ("sustain", True, -12.0),
        ]
        assert plan.paths[1].tools[0].key.low_hz == 120.0
        assert [group.id for group in plan.groups] == ["kick", "snare", "cymbals"]
        assert plan.mic("oh-l").group == "cymbals"
        compressor, limiter = plan.kit.tools
        assert (compressor.share, limiter.on, limiter.input_db, plan.kit.level_db) == (0.8, True, 1.5, 0.0)

    def test_once_is_enough(self):
        """What is of today is left as it is."""
        data = upgrade(FORMER)
        assert data["schema"] == SCHEMA
        assert upgrade(data) is data
        assert read_plan(read_plan(FORMER).to_json()) == read_plan(FORMER)
        assert read_plan(Plan().to_json()) == Plan()

    @pytest.mark.parametrize(
        ("damage", "words"),
        [
            ({"mics": [1]}, "plan: is none of schema 1"),
            ({"bus": 3}, "plan: is none of schema 1"),
            ({"schema": 7}, "schema: 7 is none that is known here"),
            ({"mics": [{"id": "a", "name": "A", "gate": {"threshold_db": 9.0}}]}, "threshold_db: 9 dB is outside"),
            ({"mics": [{"id": "a", "name": "A", "gate": {"sparkle": 1}}]}, "unknown key 'sparkle'"),
        ],
    )
    def test_what_is_none(self, damage, words):
        """Is refused in words."""
        with pytest.raises(SettingsError, match=words):
            read_plan(FORMER | damage)

    def test_a_former_template(self):
        """Is one of today: its tools loaded and bypassed, its paths muted."""
        mic = FORMER["mics"][1]
        rows = {"snare top": {part: mic[part] for part in ("gate", "tone", "shaper", "compressor", "mix")}}
        shared = {name: FORMER[name] for name in ("window", "alignment", "crossfade_ms", "punch", "sustain", "bus")}
        plan = read_plan(FORMER)
        started = put(plan, changes_of(plan, {"mics": rows} | shared))
        gate = started.mic("snare-top").first("gate")
        assert (gate.on, gate.threshold_db) == (False, -30.0)
        assert started.mic("snare-top").send_db("punch") == -3.0
        assert all(path.mute for path in started.paths)


class TestLayersOfSchema2:
    """A captured hit under all hits of its drum, in each of the drum's mics."""

    @staticmethod
    def former(layers: int, mics: int) -> dict:
        rows = [{"id": f"sn-{k}", "name": f"SN {k}", "piece": "snare", "role": "top"} for k in range(mics)]
        captures = [{"id": "c", "piece": "snare"}]
        return {
            "schema": 2,
            "take": "take-1",
            "mics": rows,
            "captures": captures,
            "layers": [{"capture": "c"}] * layers,
        }

    def test_one_through_each_mic(self):
        """With ids of their own."""
        found = upgrade(self.former(3, 2))["mics"][2:]
        assert [mic["into"] for mic in found] == ["sn-0", "sn-1"] * 3
        assert len({mic["id"] for mic in found}) == 6

    @pytest.mark.parametrize(("layers", "mics"), [(100_000, 64), (5, 10_000), (257, 1)])
    def test_too_many(self, layers, mics):
        """Are refused as soon as they are too many, whatever they multiply to."""
        with pytest.raises(SettingsError, match="at most 256 in all mics"):
            upgrade(self.former(layers, mics))
