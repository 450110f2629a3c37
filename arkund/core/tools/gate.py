"""The gate and expander: opens a strip for its own hits, or closes it for others', with key, key filter and look-ahead."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.bank import bank_of, coefficient, lanes
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.reach import Reach, of_cascades, of_follower
from arkund.core.settings import choice, number
from arkund.core.tools import _gate
from arkund.core.tools.detector import Detectors, key_filter
from arkund.core.tools.tool import Key, Tool, kind
from arkund.core.units import DB_PER_OCTAVE, db_to_gain, gain_to_db, ms_to_samples

KEY_RELEASE_MS = 5.0  # bridges the zero crossings of the key
LINGER_S = 0.5  # a level that has not passed the threshold for longer than this no longer holds it open
BETWEEN_PEAKS_MS = 13.0  # half a period of 40 Hz: so long a level that was above a threshold is not taken as fallen
KEY_ORDER = 4  # of the key's filters
SHAPES = ("curved", "straight")  # of the way down
DOES = ("opens", "ducks")
MOST_RATIO = 100.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Gate(Tool):
    """When a strip is opened, and how far it is closed in between."""

    kind: str = kind("gate")
    threshold_db: float = number(
        -35.0,
        -90.0,
        0.0,
        step=0.5,
        unit="dB",
        help="opens above this key level; peaks are followed at once and fall within 5 ms",
    )
    hysteresis_db: float = number(
        4.0,
        0.0,
        24.0,
        step=0.5,
        unit="dB",
        help="closes this far below the threshold, or half a second after it was last passed",
    )
    attack_ms: float = number(0.1, 0.02, 50.0, step=0.02, unit="ms", help="63 % of the way open")
    hold_ms: float = number(
        40.0,
        0.0,
        1000.0,
        step=1.0,
        unit="ms",
        help="stays open this long after the level has fallen; at least 13 ms, half a period of 40 Hz",
    )
    release_ms: float = number(
        120.0, 5.0, 1500.0, step=1.0, unit="ms", help="63 % of the way closed; straight: all of it, so many dB each ms"
    )
    shape: str = choice("curved", SHAPES)
    ratio: float = number(
        MOST_RATIO,
        1.2,
        MOST_RATIO,
        step=0.1,
        help="of an expander: softer by so much for each dB below; 100 is a gate, closed at once",
    )
    does: str = choice("opens", DOES)  # for its key; one that ducks closes for it, within the attack
    range_db: float = number(18.0, 0.0, 90.0, step=1.0, unit="dB", help="how far it closes; 10 to 20 keeps some life")
    lookahead_ms: float = number(
        1.5, 0.0, 10.0, step=0.1, unit="ms", help="opens this much before the hit; a slow attack takes longer than that"
    )
    key: Key = Key()  # noqa: RUF009 (frozen)

    @property
    def ducks(self) -> bool:
        """Whether it closes where its key would open it."""
        return self.does == "ducks"

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the gate must hear beyond a span."""
        hold = int((LINGER_S + 0.05) * sample_rate_hz + _hold_samples(self, sample_rate_hz))
        key = of_cascades([self.detector(sample_rate_hz)])
        return key + Reach(hold, after=self.early(sample_rate_hz)) + of_follower(self.release_ms, sample_rate_hz)

    def early(self, sample_rate_hz: int) -> int:
        """Return by how many samples the gate opens before its key."""
        return round(ms_to_samples(self.lookahead_ms, sample_rate_hz))

    def detector(self, sample_rate_hz: int) -> tuple[Biquad, ...]:
        """Return the sections that the detector listens through."""
        return key_filter(self.key, KEY_ORDER, sample_rate_hz)


SETTINGS = Gate
CLOSED = Gate(range_db=0.0, lookahead_ms=0.0)  # for lanes without a gate: closed or open, it is a wire


class Run:
    """Gates of a bank's lanes that keep their state from block to block; lanes without one pass unchanged."""

    def __init__(self, tools: Sequence[Gate | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        rate, gates = sample_rate_hz, [each or CLOSED for each in tools]
        self._detectors = Detectors(
            [g.detector(rate) for g in gates], [g.early(rate) for g in gates], [bool(g.key.of) for g in gates], width
        )
        self.ahead, self._begun = self._detectors.ahead, False
        closed = [-g.range_db / DB_PER_OCTAVE for g in gates]
        self._params = lanes(
            [
                [db_to_gain(g.threshold_db) for g in gates],
                [db_to_gain(g.threshold_db - g.hysteresis_db) for g in gates],
                [coefficient(g.attack_ms, rate) for g in gates],
                [coefficient(g.release_ms, rate) for g in gates],
                [_hold_samples(g, rate) for g in gates],
                closed,
                [coefficient(KEY_RELEASE_MS, rate)] * len(gates),
                [LINGER_S * rate] * len(gates),
                [float(linked)] * len(gates),
                [g.ratio - 1.0 if g.ratio < MOST_RATIO else 0.0 for g in gates],
                [float(g.ducks) for g in gates],
                [_step(g, rate) for g in gates],
                [_between_peaks(g, rate) for g in gates],
            ],
            width,
        )
        self._state = np.zeros(5 * width, np.float32)
        self._state[2 * width : 2 * width + len(gates)] = [
            0.0 if g.ducks else shut for g, shut in zip(gates, closed, strict=True)
        ]
        self._expands = any(g.ratio < MOST_RATIO for g in gates)

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Gate the first ``count`` rows of a bank [float32, shape=(samples, width), contiguous] in place; of those behind, ``ahead`` are looked at, and the
        next call begins with them. key : a bank of the same shape, for the lanes whose key is elsewhere
        """
        if not self._begun:
            self._begun = True
            before = self._detectors.prime(bank, key)
            if before is not None:
                self._go_on(np.zeros_like(before), before)
        part = bank[:count]
        self._go_on(part, part if self._detectors.plain else self._detectors.hear(bank, key, count))

    def _go_on(self, part: np.ndarray, heard: np.ndarray) -> None:
        loop = _gate.BANKS[part.shape[1]].gate
        loop(part.reshape(-1), heard.reshape(-1), self._expands, self._params, self._state)


def _between_peaks(gate: Gate, rate: int) -> float:
    """Return for how many samples a level may be low between two peaks of a ring; strikes as a key have no zero crossings."""
    return 1.0 if gate.key.of.startswith("hits:") else float(ms_to_samples(BETWEEN_PEAKS_MS, rate))


def _hold_samples(gate: Gate, rate: int) -> float:
    """Return for how many samples it stays open once the level is too low: until a next peak could have come, at least."""
    return max(float(ms_to_samples(gate.hold_ms, rate)), _between_peaks(gate, rate))


def _step(gate: Gate, rate: int) -> float:
    """Return by how many octaves a gate that closes straight falls with each sample; 0 where it does not."""
    if gate.shape == "curved":
        return 0.0
    return gate.range_db / DB_PER_OCTAVE / max(ms_to_samples(gate.release_ms, rate), 1.0)


def gain(x: np.ndarray, gate: Gate, sample_rate_hz: int) -> np.ndarray:
    """Return a gate's gain at every sample of a signal that it hears [float32, shape=(samples,)], linear, look-ahead included."""
    key = bank_of([np.concatenate([x, np.zeros(gate.early(sample_rate_hz), np.float32)])])
    out = np.ones(key.shape, np.float32)
    keyed = gate.replace(key=gate.key.replace(of="gain"))
    Run([keyed], sample_rate_hz, key.shape[1]).run(out, x.size, key)
    return out[: x.size, 0]


def oracle(x: np.ndarray, gate: Gate, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] through a gate, sample by sample in double precision, silence following."""
    from arkund.core.tools.plain import filtered

    early = gate.early(sample_rate_hz)
    heard = np.concatenate([x if key is None else key, np.zeros(early)])
    return x * _gain(filtered(heard, gate.detector(sample_rate_hz)), gate, sample_rate_hz)[early:]


def _gain(x: np.ndarray, s: Gate, rate: int) -> np.ndarray:
    env, bridge, hold, lingered = 0.0, 0.0, 0.0, 0
    gain_db = 0.0 if s.ducks else -s.range_db
    opens, closes = (float(db_to_gain(level)) for level in (s.threshold_db, s.threshold_db - s.hysteresis_db))
    ka, kr, kk = (coefficient(t, rate) for t in (s.attack_ms, s.release_ms, KEY_RELEASE_MS))
    out = np.empty(len(x))
    for i, v in enumerate(x.tolist()):
        env = max(abs(v), env * kk, 1e-9)
        lingered = 0 if env > opens else lingered + 1
        is_open = env > opens or (bridge > 0.5 and env >= closes and lingered <= LINGER_S * rate)
        bridge = _between_peaks(s, rate) if is_open else max(bridge - 1, 0)
        hold = _hold_samples(s, rate) if is_open else max(hold - 1, 0)
        shut = -s.range_db
        if s.ratio < MOST_RATIO:
            shut = max(shut, -max(s.threshold_db - float(gain_to_db(env)), 0.0) * (s.ratio - 1.0))
        opened = is_open or hold > 0.5
        target = (-s.range_db if opened else 0.0) if s.ducks else (0.0 if opened else shut)
        if target <= gain_db and s.shape == "straight" and not s.ducks:
            gain_db = max(gain_db - s.range_db / max(s.release_ms * rate / 1000, 1.0), target)
        else:
            gain_db = target + (gain_db - target) * (ka if (target > gain_db) != s.ducks else kr)
        out[i] = float(db_to_gain(gain_db))
    return out
