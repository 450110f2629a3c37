"""The compressor."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.bank import coefficient, lanes
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.reach import Reach, of_cascades, of_follower
from arkund.core.settings import number
from arkund.core.tools import _compressor
from arkund.core.tools.detector import Detectors, key_filter
from arkund.core.tools.tool import Key, Tool, kind
from arkund.core.units import db_to_gain, gain_to_db

KEY_ORDER = 2  # of the key's filters


@dataclass(frozen=True, slots=True, kw_only=True)
class Compressor(Tool):
    """When, how strong and how fast."""

    kind: str = kind("compressor")
    threshold_db: float = number(-18.0, -60.0, 0.0, step=0.5, unit="dB", help="reduces what is louder")
    ratio: float = number(4.0, 1.0, 50.0, step=0.1, help="4 lets 1 dB out of each 4")
    knee_db: float = number(3.0, 0.0, 24.0, step=0.5, unit="dB", help="how gradually it sets in")
    attack_ms: float = number(10.0, 0.05, 200.0, step=0.05, unit="ms", help="63 % of the reduction")
    release_ms: float = number(100.0, 5.0, 2000.0, step=1.0, unit="ms", help="63 % of the recovery")
    makeup_db: float = number(0.0, -12.0, 24.0, step=0.1, unit="dB")
    share: float = number(1.0, 0.0, 1.0, step=0.01, help="of the compressed sound; the rest stays as it was")
    key: Key = Key()  # noqa: RUF009 (frozen)

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the compressor must hear beyond a span."""
        key = of_cascades([self.detector(sample_rate_hz)])
        return key + of_follower(max(self.attack_ms, self.release_ms), sample_rate_hz)

    def detector(self, sample_rate_hz: int) -> tuple[Biquad, ...]:
        """Return the sections that the detector listens through."""
        return key_filter(self.key, KEY_ORDER, sample_rate_hz)


SETTINGS = Compressor
WIRE = Compressor(ratio=1.0)


class Run:
    """Compressors of a bank's lanes that keep their state from block to block; lanes without one pass unchanged."""

    ahead = 0

    def __init__(
        self, tools: Sequence[Compressor | None], sample_rate_hz: int, width: int, linked: bool = False
    ) -> None:
        rate, mine = sample_rate_hz, [each or WIRE for each in tools]
        self._detectors = Detectors([c.detector(rate) for c in mine], (), [bool(c.key.of) for c in mine], width)
        values = [
            [c.threshold_db for c in mine],
            [1.0 - 1.0 / c.ratio for c in mine],
            [c.knee_db for c in mine],
            [1.0 - coefficient(c.attack_ms, rate) for c in mine],  # the difference to 1 is what float32 would lose
            [1.0 - coefficient(c.release_ms, rate) for c in mine],
            [c.makeup_db for c in mine],
            [c.share for c in mine],
            [1.0 - c.share for c in mine],
            [float(linked)] * len(mine),
        ]
        self._params, self._state = lanes(values, width), np.zeros(width, np.float32)

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Compress the first ``count`` rows of a bank [float32, shape=(samples, width), contiguous] in place.

        key : a bank of the same shape, for the lanes whose key is elsewhere
        """
        part = bank[:count]
        heard = part if self._detectors.plain else self._detectors.hear(bank, key, count)
        _compressor.BANKS[bank.shape[1]].compressor(part.reshape(-1), heard.reshape(-1), self._params, self._state)


def gain(bank: np.ndarray, tools: Sequence[Compressor], sample_rate_hz: int, linked: bool = False) -> np.ndarray:
    """Return the gain (linear, with make-up) of a bank's compressors at every sample [float32, shape=(samples, width)]."""
    out = np.ones(bank.shape, np.float32)
    keyed = [each.replace(key=each.key.replace(of="gain")) for each in tools]
    Run(keyed, sample_rate_hz, bank.shape[1], linked).run(out, bank.shape[0], bank)
    return out


def static_reduction_db(level_db: np.ndarray, settings: Compressor) -> np.ndarray:
    """Return the settled reduction in dB at input levels in dB: (L - T)(1 - 1/R) above the knee.

    Of a level that stands still. The detector follows each half wave, so that steady tones lose 1 to 2.5 dB less: see ``punch.measure.taken``.
    """
    over = np.asarray(level_db, dtype=np.float64) - settings.threshold_db
    knee = settings.knee_db
    inside = np.clip(over + knee / 2.0, 0.0, None)
    soft = inside**2 / (2.0 * knee) if knee > 0 else np.maximum(over, 0.0)
    return np.where(inside > knee, over, soft) * (1.0 - 1.0 / settings.ratio)


def transfer_db(compressor: Compressor, level_db: np.ndarray) -> np.ndarray:
    """Return the level that leaves it of one that stands still, in dB."""
    wet = db_to_gain(compressor.makeup_db - static_reduction_db(level_db, compressor))
    return level_db + gain_to_db(1.0 - compressor.share + compressor.share * wet)


def oracle(x: np.ndarray, compressor: Compressor, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] through a compressor, sample by sample in double precision."""
    from arkund.core.tools.plain import filtered

    s, reduction, out = compressor, 0.0, np.empty(len(x))
    ka, kr = coefficient(s.attack_ms, sample_rate_hz), coefficient(s.release_ms, sample_rate_hz)
    heard = filtered(x if key is None else key, s.detector(sample_rate_hz))
    for i, (v, k) in enumerate(zip(x.tolist(), heard.tolist(), strict=True)):
        target = float(static_reduction_db(gain_to_db(abs(k) + 1e-9), s))
        reduction = target + (reduction - target) * (ka if target > reduction else kr)
        out[i] = v * (s.share * float(db_to_gain(s.makeup_db - reduction)) + 1.0 - s.share)
    return out
