"""The schools of lining up, rooms that come nearer, and recordings of two clocks."""

import numpy as np
import pytest

from arkund.core.demo.room import arrival_s
from arkund.core.dsp.delay import read_at_speed
from arkund.core.files.audio import ArrayMic
from arkund.core.lineup import measure as lineup
from arkund.core.lineup.measure import Arrival, Drift
from arkund.core.lineup.propose import propose, propose_drift
from arkund.core.lineup.settings import LineUpSettings
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.render.source import Sources
from tests.kits import small_kit

MICS = tuple(
    MicPlan(id=name, name=name, piece=piece, role=role)
    for name, piece, role in (
        ("in", "kick", "in"),
        ("out", "kick", "out"),
        ("oh", "kit", "overhead"),
        ("room", "kit", "room"),
    )
)
ARRIVALS = [
    Arrival("out", "in", "kick", 1.2, 1, 0.02, True, 20),
    Arrival("oh", "in", "kick", 4.0, 1, 0.05, True, 20),
    Arrival("room", "in", "kick", 9.0, -1, 0.05, True, 20),
]


def proposed(overheads=None, arrivals=ARRIVALS, **how):
    plan = Plan(mics=MICS, alignment=LineUpSettings(**how))
    return {k: v for f in propose(plan, arrivals, overheads) for k, v in f.changes.items()}


class TestSchools:
    """Each changes what it says and nothing else."""

    def test_within_one_drum(self):
        """The outer mic comes to the inner one; the room is only turned."""
        assert proposed() == {"mics.out.line_up.delay_ms": -1.2, "mics.room.line_up.inverted": True}

    def test_to_the_overheads(self):
        """Both kick mics sound when the overheads hear the kick."""
        found = proposed({"kick": 4.0}, school="overheads")
        assert found["mics.in.line_up.delay_ms"] == 4.0
        assert found["mics.out.line_up.delay_ms"] == pytest.approx(2.8)
        assert "mics.oh.line_up.delay_ms" not in found

    def test_polarity_only(self):
        """No delays."""
        assert proposed(school="polarity") == {"mics.room.line_up.inverted": True}

    def test_rooms_nearer(self):
        """By a share of their distance; overheads keep theirs."""
        found = proposed(rooms_nearer=40.0)
        assert found["mics.room.line_up.delay_ms"] == pytest.approx(-3.6)
        assert "mics.oh.line_up.delay_ms" not in found

    def test_an_unsure_mic_is_not_moved(self):
        """In no school."""
        unsure = [Arrival("out", "in", "kick", 1.2, 1, 0.9, False, 20)]
        for school in ("drum", "polarity"):
            assert proposed(arrivals=unsure, school=school) == {}

    def test_temperature(self):
        """Is what a millisecond is in centimetres."""
        plan = Plan(mics=MICS, alignment=LineUpSettings(temperature_c=0.0))
        assert "(40 cm)" in propose(plan, ARRIVALS)[0].evidence


class TestOverheads:
    """When the overheads hear each drum."""

    def test_against_the_room(self):
        """Within 0.3 ms of the mean way from the drum to both."""
        kit = small_kit(seed=571, style="straight", bpm=96.0, bars=8)
        places = {m.name: m for m in kit.kit.mics}
        found = lineup.overheads_ms(kit.plan, kit, kit.hits)
        own = {"kick": "KD in", "snare": "SN top"}
        assert own.keys() <= found.keys()
        for piece, mic in own.items():
            ways = [arrival_s(places[name], piece) - arrival_s(places[mic], piece) for name in ("OH L", "OH R")]
            assert min(ways) * 1000 - 0.3 <= found[piece] <= max(ways) * 1000 + 0.3


@pytest.fixture(scope="module")
def long_kit():
    return small_kit(seed=572, style="straight", bpm=120.0, bars=40)


class TestDrift:
    """A mic recorded by another clock."""

    @pytest.mark.long
    @pytest.mark.parametrize("ppm", [-35.0, 20.0])
    def test_found_and_put_right(self, long_kit, ppm):
        """Within 2 ppm over 80 s; read at the proposed speed it stays in step as well as that, where it was off by more than 1.4 ms."""
        kit, reader = long_kit, long_kit.readers["KD out"]
        slow = ArrayMic(read_at_speed(reader.read, 1 - ppm * 1e-6, 0, reader.length))
        kit = type(kit)(**{**vars(kit), "readers": kit.readers | {"KD out": slow}})
        arrivals = lineup.measure(kit.plan, kit, kit.hits)
        found = {d.mic: d for d in lineup.drifts(kit.plan, kit, kit.hits, arrivals)}
        assert found["KD out"].sure
        assert found["KD out"].ppm == pytest.approx(ppm, abs=2.0)
        assert not any(d.sure for name, d in found.items() if name != "KD out")
        (finding,) = propose_drift(kit.plan, list(found.values()))
        mic = kit.plan.mic("KD out").replace(clock_ppm=finding.changes["mics.KD out.clock_ppm"])
        out = Sources(kit.plan, kit).read(mic, 3_600_000, 3_700_000)
        late = np.argmax(np.correlate(reader.read(3_600_000, 3_700_000), out[200:-200], "valid"))
        assert late == pytest.approx(200, abs=2e-6 * 3_650_000)

    def test_little_is_left_alone(self):
        """What lies within the measurement is no finding."""
        plan = Plan(mics=MICS)
        assert propose_drift(plan, [Drift("out", 1.5, 0.01, 8, True), Drift("room", 30.0, 0.4, 8, False)]) == []
