"""The gate as an engineer sees it: opens for hits, keeps its range, hears only its key."""

import numpy as np
import pytest

from arkund.core.dsp.filters import magnitude_db
from arkund.core.tools import gate
from arkund.core.tools.gate import Gate
from arkund.core.tools.tool import Key
from tests.core.dsp.test_bank import drums
from tests.seeds import seeds
from tests.stages import RATE, gain_of, row_through, through


def tone(level_db: float, frequency: float = 200.0, seconds: float = 1.0) -> np.ndarray:
    t = np.arange(int(seconds * RATE)) / RATE
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * frequency * t)).astype(np.float32)


def gated(x: np.ndarray, **changes) -> np.ndarray:
    return row_through([[Gate(**({"on": True} | changes))]], [x])[:, 0]


def gate_gain_db(x: np.ndarray, **changes) -> np.ndarray:
    return 20 * np.log10(gate.gain(x, Gate(on=True, **changes), RATE))


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

    @pytest.mark.parametrize("frequency", [40.0, 55.0, 80.0, 130.0])
    @pytest.mark.parametrize("hold_ms", [0.0, 20.0])
    def test_a_low_ring_opens_it_once(self, frequency, hold_ms):
        """A hit that rings down through both thresholds opens the gate once and closes it once, without any hold: 13 times it was."""
        t = np.arange(2 * RATE) / RATE
        ring = (0.5 * np.cos(2 * np.pi * frequency * t) * np.exp(-t / 0.35)).astype(np.float32)
        x = np.concatenate([np.zeros(RATE // 2, np.float32), ring])
        gain_db = gate_gain_db(x, threshold_db=-20.0, hysteresis_db=4.0, hold_ms=hold_ms, release_ms=5.0, range_db=24.0)
        opened = gain_db > -3.0
        assert np.count_nonzero(np.diff(opened.astype(int)) == 1) == 1
        closed_s = np.flatnonzero(opened)[-1] / RATE - 0.5
        falls_s = 0.35 * np.log(0.5 / 10 ** (-24 / 20))  # to the lower threshold
        assert falls_s - 0.5 / frequency < closed_s < falls_s + 0.05 + hold_ms / 1000

    def test_what_stays_between_the_thresholds(self):
        """Half a second after its level last passed the threshold it closes, whatever the hysteresis."""
        x = np.concatenate([tone(-10.0, 40.0, 0.2), tone(-22.0, 40.0, 1.5)])
        gain_db = gate_gain_db(x, threshold_db=-20.0, hysteresis_db=12.0, hold_ms=0.0, release_ms=5.0, range_db=24.0)
        assert gain_db[int(0.65 * RATE)] > -0.1
        assert gain_db[int(0.8 * RATE) :].max() < -23.0

    def test_key_filter(self):
        """Behind a high-passed key a loud kick cannot open the gate, a softer stick can."""
        kick, stick = tone(-6.0, 60.0), tone(-20.0, 5000.0)
        settings = {"threshold_db": -30.0, "key": Key(low_hz=2500.0), "range_db": 30.0}
        assert np.max(np.abs(gated(kick, **settings)[RATE // 2 :])) < 0.5 * 10 ** (-28 / 20)
        assert np.max(np.abs(gated(stick, **settings)[RATE // 2 :])) == pytest.approx(0.1, rel=0.02)

    def test_reach_covers_its_memory(self):
        """A longer release reaches further back."""
        short = Gate(on=True, release_ms=50.0).reach(RATE).before
        assert Gate(on=True, release_ms=500.0).reach(RATE).before > short + 4 * RATE


class TestKey:
    """What the key hears is what is set."""

    def test_only_the_ends_of_the_range_hear_everything(self):
        """One Hz inside of them there is a filter: nothing that can be set is a wire without saying so."""
        ends = Key(low_hz=20.0, high_hz=20_000.0)
        assert Gate(key=ends).detector(RATE) == ()
        for inside in (ends.replace(low_hz=21.0), ends.replace(high_hz=19_999.0)):
            assert len(Gate(key=inside).detector(RATE)) == 2
        axis = np.array([21.0, 24.0])
        low = magnitude_db(Gate(key=ends.replace(low_hz=24.0)).detector(RATE), axis, RATE)
        assert low[1] == pytest.approx(-3.0, abs=0.1)
        assert low[0] < low[1] - 1.0

    def test_a_foreign_key(self):
        """It opens for what it hears, not for what it gates."""
        quiet, burst = tone(-40.0), np.zeros(RATE, np.float32)
        burst[20_000:21_000] = 0.5
        out = through(
            Gate(on=True, threshold_db=-20.0, range_db=30.0, lookahead_ms=0.0, key=Key(of="mic:x")), quiet, key=burst
        )
        assert np.allclose(out[20_100:20_900], quiet[20_100:20_900], rtol=1e-3)
        assert np.abs(out[:19_000]).max() < 1.01 * 10 ** (-70 / 20)

    def test_a_stereo_strip_opens_together(self):
        """Both sides, for either."""
        left, right = tone(-10.0), tone(-45.0)
        both = through(Gate(on=True, threshold_db=-20.0, lookahead_ms=0.0), left, right)
        assert np.allclose(both[RATE // 2 :, 1], right[RATE // 2 :], rtol=1e-3)


class TestExpander:
    """Softer by a ratio below the threshold."""

    @pytest.mark.parametrize(
        ("level_db", "ratio", "down_db"), [(-30.0, 2.0, 10.0), (-26.0, 3.0, 12.0), (-50.0, 2.0, 24.0)]
    )
    def test_so_much_for_each_db_below(self, level_db: float, ratio: float, down_db: float):
        """A steady tone is lowered by (ratio - 1) dB for each dB that it lies below, and by no more than the range."""
        x = np.full(2 * RATE, 10 ** (level_db / 20), np.float32)
        out = gated(x, threshold_db=-20.0, ratio=ratio, range_db=24.0, release_ms=50.0)
        assert 20 * np.log10(out[-RATE // 2] / x[0]) == pytest.approx(-down_db, abs=0.01)

    def test_above_nothing_is_touched(self):
        """To the last bit, once it is open."""
        loud = tone(-10.0)
        out = gated(loud, threshold_db=-20.0, ratio=2.0, attack_ms=0.1)
        assert np.array_equal(out[RATE // 4 :], loud[RATE // 4 :])


class TestShape:
    """How it closes."""

    @pytest.mark.parametrize("release_ms", [40.0, 300.0])
    def test_straight(self, release_ms: float):
        """So many dB each millisecond, closed within the release."""
        x = np.full(RATE, 1e-4, np.float32)
        x[5_000:6_000] = 0.5
        out = gated(
            x, threshold_db=-12.0, hold_ms=0.0, release_ms=release_ms, range_db=40.0, lookahead_ms=0.0, shape="straight"
        )
        gain_db = 20 * np.log10(out / x)
        falling = np.flatnonzero((gain_db > -39.0) & (gain_db < -1.0) & (np.arange(x.size) > 6_000))
        assert falling.size / RATE * 1000 == pytest.approx(38.0 / 40.0 * release_ms, rel=0.05)
        steps = np.diff(gain_db[falling])
        assert np.allclose(steps, steps.mean(), atol=2e-4)

    @pytest.mark.parametrize("release_ms", [40.0, 300.0])
    def test_curved(self, release_ms: float):
        """63 % of the way within the release."""
        x = np.full(2 * RATE, 1e-4, np.float32)
        x[5_000:6_000] = 0.5
        out = gated(x, threshold_db=-12.0, hold_ms=0.0, release_ms=release_ms, range_db=40.0, lookahead_ms=0.0)
        gain_db = 20 * np.log10(out / x)
        begins = np.flatnonzero(gain_db[6_000:] < -0.01)[0] + 6_000
        reached = np.flatnonzero(gain_db[begins:] < -40.0 * (1 - np.exp(-1)))[0]
        assert reached / RATE * 1000 == pytest.approx(release_ms, rel=0.05)


class TestDuck:
    """It closes where its key would open it."""

    def test_the_other_way_round(self):
        """A key that opens a gate closes one that ducks, by the range, and lets it go again."""
        key = np.zeros(2 * RATE, np.float32)
        key[RATE // 2 : RATE] = tone(-6.0, seconds=0.5)
        mine = tone(-30.0, 1000.0, 2.0)
        ducked = Gate(
            on=True,
            threshold_db=-20.0,
            does="ducks",
            range_db=12.0,
            hold_ms=20.0,
            attack_ms=5.0,
            key=Key(of="mic:kick"),
        )
        out = through(ducked, mine, key=key)
        middle, end = slice(RATE * 7 // 10, RATE * 9 // 10), slice(RATE * 19 // 10, 2 * RATE)
        assert np.max(np.abs(out[middle])) == pytest.approx(10 ** (-42.0 / 20), rel=0.01)
        assert np.allclose(out[end], mine[end], rtol=1e-3)
        assert np.allclose(out[: RATE // 3], mine[: RATE // 3], rtol=1e-3)


class TestAgainstThePlainLoop:
    """Sample by sample in double precision."""

    @pytest.mark.parametrize(
        "more",
        [
            {},
            {"ratio": 2.5},
            {"shape": "straight"},
            {"does": "ducks", "shape": "straight"},
            {"ratio": 1.5, "shape": "straight"},
        ],
    )
    @pytest.mark.parametrize("seed", seeds(11, 12, 13))
    def test_equal(self, seed: int, more: dict):
        """Threshold, hysteresis, hold, attack, release and range; as an expander, straight, ducking."""
        rng = np.random.default_rng(seed)
        s = Gate(
            on=True,
            threshold_db=float(rng.uniform(-40, -10)),
            hysteresis_db=float(rng.uniform(0, 8)),
            attack_ms=float(rng.uniform(0.05, 5)),
            hold_ms=float(rng.uniform(1, 50)),
            release_ms=float(rng.uniform(10, 200)),
            range_db=float(rng.uniform(6, 60)),
            lookahead_ms=0.0,
            **more,
        )
        x = drums(seed)
        assert np.max(np.abs(gain_of(s, x) - gate.oracle(np.ones(x.size), s, RATE, x))) < 3e-4
