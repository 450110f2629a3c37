"""The hit leveller: a gain for each hit of a mic's drum, towards one strength for its strong hits and one for its soft ones.

It is no compressor: nothing within a hit is changed, and the gain goes from one hit's to the next before that one begins.
"""

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from arkund.core.dsp.crossfade import cubic
from arkund.core.dsp.reach import NOTHING, Reach
from arkund.core.settings import check_strikes, number, quick_hash
from arkund.core.tools import regions
from arkund.core.tools.tool import Moved, Tool, kind
from arkund.core.units import db_to_gain, ms_to_samples


@dataclass(frozen=True, slots=True, kw_only=True)
class Leveller(Tool):
    """How strong hits are to be, in dB against the usual strong one. strikes : in order, (first sample of the recording, level in dB against the usual one)"""

    drawn: ClassVar[bool] = True
    of_the_song: ClassVar[tuple[str, ...]] = ("strikes",)

    kind: str = kind("leveller")
    strong_db: float = number(0.0, -24.0, 12.0, step=0.5, unit="dB", help="where strong hits are brought to")
    soft_db: float = number(-14.0, -40.0, 12.0, step=0.5, unit="dB", help="where soft hits are brought to")
    part_db: float = number(-9.0, -40.0, 0.0, step=0.5, unit="dB", help="what lies below is a soft hit")
    strength: float = number(0.5, 0.0, 1.0, step=0.05, help="how much of the way; 1 = all are the same")
    most_db: float = number(9.0, 0.0, 24.0, step=0.5, unit="dB", help="no hit is changed by more")
    lead_ms: float = number(2.0, 0.0, 50.0, step=0.1, unit="ms", help="a hit's gain stands this much before it begins")
    change_ms: float = number(
        10.0, 1.0, 200.0, step=1.0, unit="ms", help="from one hit's gain to the next, before that"
    )
    strikes: tuple[tuple[int, float], ...] = ()

    def __post_init__(self) -> None:
        Tool.__post_init__(self)
        check_strikes(self.strikes)

    def __hash__(self) -> int:
        return quick_hash(self, self.strikes)

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what it must hear beyond a span: nothing, what it does is known beforehand."""
        return NOTHING


SETTINGS = Leveller
Run = regions.Run


def changes_db(leveller: Leveller, levels_db: np.ndarray) -> np.ndarray:
    """Return by how much hits of some levels are changed, dB [shape of levels_db]."""
    levels = np.asarray(levels_db, float)
    wanted = np.where(levels < leveller.part_db, leveller.soft_db, leveller.strong_db) - levels
    return np.clip(leveller.strength * wanted, -leveller.most_db, leveller.most_db)


def gains(leveller: Leveller, moved: Moved, start: int, stop: int, sample_rate_hz: int) -> np.ndarray:
    """Return its gain over a part of the song, linear, float32 [shape=(stop - start,)]: as it came before the first hit, cubic from one hit's to the next."""
    out = np.ones(stop - start, np.float32)
    if not leveller.strikes:
        return out
    lead, change = (round(ms_to_samples(ms, sample_rate_hz)) for ms in (leveller.lead_ms, leveller.change_ms))
    at = moved(tuple((sample,) for sample, _ in leveller.strikes))[:, 0] - lead - start
    steps = db_to_gain(changes_db(leveller, np.array([db for _, db in leveller.strikes]))).astype(np.float32)
    first = max(int(np.searchsorted(at, 0)) - 1, 0)
    last = int(np.searchsorted(at, out.size + change))
    if first:
        out[:] = steps[first - 1]
    for number_ in range(first, last):
        begin, before = int(at[number_]), steps[number_ - 1] if number_ else np.float32(1.0)
        # Where hits come sooner than the gain would change, it changes from one to the next.
        length = min(change, begin - int(at[number_ - 1])) if number_ else change
        low, high = max(begin - length, 0), min(begin, out.size)
        if low < high:
            done = (np.arange(low - begin + length, high - begin + length) + 0.5) / length
            out[low:high] = before + (steps[number_] - before) * cubic(done).astype(np.float32)
        out[max(begin, 0) :] = steps[number_]
    return out


def oracle(x: np.ndarray, leveller: Leveller, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] with its hits levelled, sample by sample in double precision; key : its gains where they are known."""
    if key is not None:
        return x * key
    lead, change = (round(ms * sample_rate_hz / 1000.0) for ms in (leveller.lead_ms, leveller.change_ms))
    rows = [(at - lead, 10.0 ** (float(changes_db(leveller, np.array(db))) / 20.0)) for at, db in leveller.strikes]
    out = np.empty(len(x))
    for i, value in enumerate(np.asarray(x, float).tolist()):
        behind = [row for row in rows if row[0] <= i]
        gain = behind[-1][1] if behind else 1.0
        ahead = [row for row in rows if row[0] > i]
        if ahead:
            at, to = ahead[0]
            length = min(change, at - behind[-1][0]) if behind else change
            done = max((i - at + length + 0.5) / length, 0.0)
            gain += (to - gain) * done * done * (3.0 - 2.0 * done)
        out[i] = value * gain
    return out
