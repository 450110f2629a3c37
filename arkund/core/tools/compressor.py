"""The compressor."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.dsp.bank import coefficient, lanes
from arkund.core.dsp.filters import Biquad
from arkund.core.dsp.reach import Reach, of_cascades, of_follower
from arkund.core.settings import choice, number
from arkund.core.tools import _compressor
from arkund.core.tools.detector import Detectors, key_filter
from arkund.core.tools.tool import Key, Tool, kind
from arkund.core.units import db_to_gain, gain_to_db, ms_to_samples

KEY_ORDER = 2  # of the key's filters
NOTE_RELEASES = ("1/32", "1/16t", "1/16", "1/8t", "1/8", "1/8.", "1/4", "1/4.", "1/2", "1/1")
RELEASES = ("time", "itself", *NOTE_RELEASES)
CHARGE, SLOWER = (
    4.0,
    10.0,
)  # of a release by itself: times the set one until what lasts counts, and by which it then goes
SLOWEST_MS = 2000.0  # it goes no slower, so that no more of the song must be heard before a place
MOST_REDUCTION_DB = 60.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Compressor(Tool):
    """When, how strong and how fast."""

    kind: str = kind("compressor")
    threshold_db: float = number(-18.0, -60.0, 0.0, step=0.5, unit="dB", help="reduces what is louder")
    ratio: float = number(4.0, 1.0, 50.0, step=0.1, help="4 lets 1 dB out of each 4")
    knee_db: float = number(3.0, 0.0, 24.0, step=0.5, unit="dB", help="how gradually it sets in")
    attack_ms: float = number(10.0, 0.05, 200.0, step=0.05, unit="ms", help="63 % of the reduction")
    release_ms: float = number(100.0, 5.0, 2000.0, step=1.0, unit="ms", help="63 % of the recovery")
    # itself: as set after a short peak, slower after a long one; a note value: release_ms follows the tempo, see ``rig.note_releases``
    release_by: str = choice("time", RELEASES)
    makeup_db: float = number(0.0, -12.0, 24.0, step=0.1, unit="dB")
    range_db: float = number(
        MOST_REDUCTION_DB, 0.0, MOST_REDUCTION_DB, step=0.5, unit="dB", help="never takes more than this; 60 takes all"
    )
    average_ms: float = number(
        0.0,
        0.0,
        100.0,
        step=0.5,
        unit="ms",
        help="mean-square averaging time; 0 detects peaks and reduces a steady tone slightly less than the curve says",
    )
    lookahead_ms: float = number(0.0, 0.0, 5.0, step=0.1, unit="ms", help="hears this much before it sounds")
    share: float = number(1.0, 0.0, 1.0, step=0.01, help="of the compressed sound; the rest stays as it was")
    key: Key = Key()  # noqa: RUF009 (frozen)

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what the compressor must hear beyond a span."""
        key = of_cascades([self.detector(sample_rate_hz)]) + Reach(after=self.early(sample_rate_hz))
        if self.average_ms:
            key += of_follower(self.average_ms, sample_rate_hz)
        own = key + of_follower(max(self.attack_ms, self.release_ms), sample_rate_hz)
        return own + of_follower(self.slow_ms, sample_rate_hz) if self.lingers else own

    @property
    def released_by_note(self) -> bool:
        """Whether its release is a note value."""
        return self.release_by in NOTE_RELEASES

    @property
    def lingers(self) -> bool:
        """Whether its release is slower after what has lasted."""
        return self.release_by == "itself"

    @property
    def slow_ms(self) -> float:
        """The release after what has lasted, where it goes by itself."""
        return max(self.release_ms, min(SLOWER * self.release_ms, SLOWEST_MS))

    def early(self, sample_rate_hz: int) -> int:
        """Return by how many samples it hears what is still to come."""
        return round(ms_to_samples(self.lookahead_ms, sample_rate_hz))

    def detector(self, sample_rate_hz: int) -> tuple[Biquad, ...]:
        """Return the sections that the detector listens through."""
        return key_filter(self.key, KEY_ORDER, sample_rate_hz)


SETTINGS = Compressor
WIRE = Compressor(ratio=1.0)


class Run:
    """Compressors of a bank's lanes that keep their state from block to block; lanes without one pass unchanged."""

    def __init__(
        self, tools: Sequence[Compressor | None], sample_rate_hz: int, width: int, linked: bool = False
    ) -> None:
        rate, mine = sample_rate_hz, [each or WIRE for each in tools]
        self._detectors = Detectors(
            [c.detector(rate) for c in mine], [c.early(rate) for c in mine], [bool(c.key.of) for c in mine], width
        )
        self.ahead, self._begun = self._detectors.ahead, False
        self._averages, self._lingers = any(c.average_ms for c in mine), any(c.lingers for c in mine)
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
            [c.range_db for c in mine],
            [1.0 - coefficient(c.average_ms, rate) if c.average_ms else 0.0 for c in mine],
            [1.0 - coefficient(CHARGE * c.release_ms, rate) for c in mine],
            [1.0 - coefficient(c.slow_ms, rate) for c in mine],
            [float(c.lingers) for c in mine],
        ]
        self._params, self._state = lanes(values, width), np.zeros(3 * width, np.float32)

    def run(self, bank: np.ndarray, count: int, key: np.ndarray | None = None) -> None:
        """Compress the first ``count`` rows of a bank [float32, shape=(samples, width), contiguous] in place; of those behind, ``ahead`` are looked at.

        key : a bank of the same shape, for the lanes whose key is elsewhere
        """
        if not self._begun:
            self._begun = True
            before = self._detectors.prime(bank, key)
            if before is not None:
                self._go_on(np.zeros_like(before), before)
        part = bank[:count]
        self._go_on(part, part if self._detectors.plain else self._detectors.hear(bank, key, count))

    def _go_on(self, part: np.ndarray, heard: np.ndarray) -> None:
        loop = _compressor.BANKS[part.shape[1]].compressor
        loop(part.reshape(-1), heard.reshape(-1), self._averages, self._lingers, self._params, self._state)


def gain(bank: np.ndarray, tools: Sequence[Compressor], sample_rate_hz: int, linked: bool = False) -> np.ndarray:
    """Return the gain (linear, with make-up) of a bank's compressors at every sample [float32, shape=(samples, width)]."""
    keyed = [each.replace(key=each.key.replace(of="gain")) for each in tools]
    run = Run(keyed, sample_rate_hz, bank.shape[1], linked)
    key = np.concatenate([bank, np.zeros((run.ahead, bank.shape[1]), np.float32)]) if run.ahead else bank
    out = np.ones(key.shape, np.float32)
    run.run(out, bank.shape[0], key)
    return out[: bank.shape[0]]


def static_reduction_db(level_db: np.ndarray, settings: Compressor) -> np.ndarray:
    """Return the settled reduction in dB at input levels in dB: (L - T)(1 - 1/R) above the knee.

    Of a level that stands still. The detector follows each half wave, so that steady tones lose 1 to 2.5 dB less: see ``punch.measure.taken``.
    """
    over = np.asarray(level_db, dtype=np.float64) - settings.threshold_db
    knee = settings.knee_db
    inside = np.clip(over + knee / 2.0, 0.0, None)
    soft = inside**2 / (2.0 * knee) if knee > 0 else np.maximum(over, 0.0)
    return np.minimum(np.where(inside > knee, over, soft) * (1.0 - 1.0 / settings.ratio), settings.range_db)


def transfer_db(compressor: Compressor, level_db: np.ndarray) -> np.ndarray:
    """Return the level that leaves it of one that stands still, in dB."""
    wet = db_to_gain(compressor.makeup_db - static_reduction_db(level_db, compressor))
    return level_db + gain_to_db(1.0 - compressor.share + compressor.share * wet)


def oracle(x: np.ndarray, compressor: Compressor, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] through a compressor, sample by sample in double precision."""
    from arkund.core.tools.plain import filtered

    s, reduction, kept, mean, out = compressor, 0.0, 0.0, 0.0, np.empty(len(x))
    times = (s.attack_ms, s.release_ms, CHARGE * s.release_ms, s.slow_ms)
    ka, kr, charge, slow = (coefficient(ms, sample_rate_hz) for ms in times)
    km = coefficient(s.average_ms, sample_rate_hz) if s.average_ms else 0.0
    early = s.early(sample_rate_hz)
    heard = filtered(np.concatenate([x if key is None else key, np.zeros(early)]), s.detector(sample_rate_hz))
    for i, k in enumerate(heard.tolist()):
        mean = k * k + (mean - k * k) * km
        target = float(static_reduction_db(gain_to_db(np.sqrt(mean) + 1e-9), s))
        reduction = target + (reduction - target) * (ka if target > reduction else kr)
        kept = target + (kept - target) * (charge if target > kept else slow)
        taken = max(reduction, kept) if s.lingers else reduction
        if i >= early:
            out[i - early] = x[i - early] * (s.share * float(db_to_gain(s.makeup_db - taken)) + 1.0 - s.share)
    return out
