"""The gate as an engineer sees it: opens for hits, keeps its range, hears only its key."""

import numpy as np
import pytest

from arkund.core.clean.measure import Separation, separation
from arkund.core.clean.process import key_filter, reach
from arkund.core.clean.propose import propose, start_settings, wants_gate
from arkund.core.clean.settings import GateSettings
from arkund.core.dsp.bank import bank_of
from arkund.core.dsp.filters import magnitude_db
from arkund.core.dsp.reach import NOTHING
from arkund.core.plan.plan import MicPlan
from arkund.core.punch.process import detector
from arkund.core.punch.settings import CompressorSettings
from arkund.core.render.strips import Strips

RATE = 48_000


def tone(level_db: float, frequency: float = 200.0, seconds: float = 1.0) -> np.ndarray:
    t = np.arange(int(seconds * RATE)) / RATE
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * frequency * t)).astype(np.float32)


def gated(x: np.ndarray, **changes) -> np.ndarray:
    strips = Strips([MicPlan(id="m", name="m", gate=GateSettings(**({"on": True} | changes)))], RATE)
    return strips.run(np.concatenate([bank_of([x]), np.zeros((strips.ahead, strips.width), np.float32)]))[:, 0]


class TestProcess:
    """Levels above and below the threshold."""

    def test_above_passes_below_is_lowered_by_the_range(self):
        """A closed gate takes exactly its range."""
        loud, soft = tone(-10.0), tone(-40.0)
        assert np.max(np.abs(gated(loud, threshold_db=-20.0)[RATE // 2 :] - loud[RATE // 2 :])) < 1e-4
        out = gated(soft, threshold_db=-20.0, range_db=18.0)
        assert 20 * np.log10(np.max(np.abs(out[RATE // 2 :]))) == pytest.approx(-58.0, abs=0.05)

    def test_off_is_a_straight_wire(self):
        """A gate that is off gives the very same samples."""
        assert np.array_equal(gated(tone(-50.0), on=False, threshold_db=0.0), tone(-50.0))

    def test_lookahead_saves_the_attack(self):
        """With look-ahead the first millisecond of a hit comes through whole."""
        x = np.zeros(RATE, np.float32)
        x[20_000:20_400] = 0.5
        late = gated(x, threshold_db=-12.0, attack_ms=1.0, lookahead_ms=0.0, range_db=60.0)
        early = gated(x, threshold_db=-12.0, attack_ms=1.0, lookahead_ms=8.0, range_db=60.0)
        assert late[20_010] < 0.2
        assert early[20_010] > 0.49

    def test_hold_and_release(self):
        """It stays open for the hold, then falls with the release."""
        x = np.full(RATE, 0.001, np.float32)
        x[5000:5100] = 0.5
        out = gated(x, threshold_db=-12.0, hold_ms=100.0, release_ms=50.0, range_db=40.0, lookahead_ms=0.0)
        gain_db = 20 * np.log10(np.abs(out) / x)
        open_until = 5100 + int(0.1 * RATE)
        assert gain_db[open_until - 50] > -0.5
        one_release_later = gain_db[open_until + int(0.05 * RATE) + 600]
        assert -40 * (1 - np.exp(-1)) == pytest.approx(one_release_later, abs=4.0)

    def test_hysteresis(self):
        """A level between the two thresholds keeps the gate open, but does not open it."""
        between = tone(-24.0)
        assert np.max(np.abs(gated(between, threshold_db=-20.0, hysteresis_db=8.0)[RATE // 4 : RATE // 2])) < 0.03
        x = np.concatenate([tone(-10.0, seconds=0.2), tone(-24.0, seconds=0.3)])
        out = gated(x, threshold_db=-20.0, hysteresis_db=8.0, hold_ms=0.0, release_ms=5.0)
        part = slice(int(0.25 * RATE), int(0.45 * RATE))
        assert np.allclose(out[part], x[part], atol=1e-4)

    def test_key_filter(self):
        """Behind a high-passed key a loud kick cannot open the gate, a softer stick can."""
        kick, stick = tone(-6.0, 60.0), tone(-20.0, 5000.0)
        settings = {"threshold_db": -30.0, "key_low_hz": 2500.0, "range_db": 30.0}
        assert np.max(np.abs(gated(kick, **settings)[RATE // 2 :])) < 0.5 * 10 ** (-28 / 20)
        assert np.max(np.abs(gated(stick, **settings)[RATE // 2 :])) == pytest.approx(0.1, rel=0.02)

    def test_reach_covers_its_memory(self):
        """A longer release reaches further back; a gate that is off needs nothing."""
        assert reach(GateSettings(), RATE) == NOTHING
        short = reach(GateSettings(on=True, release_ms=50.0), RATE).before
        assert reach(GateSettings(on=True, release_ms=500.0), RATE).before > short + 4 * RATE


class TestSeparation:
    """Own against others, and the proposed threshold."""

    def test_tom_against_bleed(self, straight):
        """In a tom's mic its own hits stand above the snare's by the generator's margin."""
        mic = straight.plan.mic("T1")
        found = separation(straight.readers["T1"].read, mic, straight.hits, start_settings(mic), RATE)
        assert len(found.own_db) == len(straight.truth["tom1"])
        assert np.median(found.own_db) > np.median(found.others_db["snare"]) + 6.0
        assert "tom1" not in found.others_db

    def test_wide_margin_gets_a_gate_between(self):
        """The threshold lies between the two, and both distances are said."""
        mic = MicPlan(id="t", name="T", piece="tom1", role="close")
        found = Separation("t", (-10.0, -12.0, -11.0), {"snare": (-30.0, -32.0)})
        note = propose(mic, start_settings(mic), found)
        threshold = note.changes["mics.t.gate"]["threshold_db"]
        assert found.loudest_other_db < threshold < found.softest_own_db
        assert f"{found.margin_db:.1f} dB" in note.evidence

    def test_thin_margin_is_said(self):
        """Where a threshold cannot tell, none is proposed."""
        mic = MicPlan(id="s", name="S", piece="snare", role="top")
        note = propose(mic, start_settings(mic), Separation("s", (-10.0, -34.0), {"kick": (-28.0,)}))
        assert note.changes == {}
        assert "cannot tell" in note.title

    def test_cymbals_are_left_open(self):
        """Overheads live from the whole kit."""
        assert not wants_gate(MicPlan(id="o", name="o", piece="kit", role="overhead"))
        assert (
            propose(MicPlan(id="t", name="T", piece="tom1", role="close"), GateSettings(), Separation("t", (), {}))
            is None
        )


class TestKeyFilter:
    """What the key hears is what is set."""

    def test_only_the_ends_of_the_range_hear_everything(self):
        """One Hz inside of them there is a filter: nothing that can be set is a wire without saying so."""
        ends = GateSettings(key_low_hz=20.0, key_high_hz=20_000.0)
        assert key_filter(ends, RATE) == ()
        for inside in (ends.replace(key_low_hz=21.0), ends.replace(key_high_hz=19_999.0)):
            assert len(key_filter(inside, RATE)) == 2
        axis = np.array([21.0, 24.0])
        low = magnitude_db(key_filter(ends.replace(key_low_hz=24.0), RATE), axis, RATE)
        assert low[1] == pytest.approx(-3.0, abs=0.1)
        assert low[0] < low[1] - 1.0
        assert detector(CompressorSettings(detector_low_hz=20.0), RATE) == ()
        assert len(detector(CompressorSettings(detector_low_hz=21.0), RATE)) == 1
