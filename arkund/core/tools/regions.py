"""Regions: a mic cut by hits. It is heard where its drum is struck and rings, untouched, and turned down everywhere else.

What opens it is drawn beforehand, place by place, from what all mics know; no detector can be fooled, and nothing of a hit is eaten.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from arkund.core.dsp import _drawing
from arkund.core.dsp.crossfade import cubic
from arkund.core.dsp.reach import NOTHING, Reach
from arkund.core.errors import SettingsError
from arkund.core.settings import number, quick_hash
from arkund.core.tools.tool import Moved, Tool, kind
from arkund.core.units import db_to_gain, ms_to_samples

SILENCE_DB = 90.0  # from here on, nothing is left
MOST_SPANS, MOST_FLOORS = 20_000, 1000
SHORTEST_MS = 60.0  # that is left of a region which ends sooner
FARTHEST = 10**11  # samples


@dataclass(frozen=True, slots=True, kw_only=True)
class Regions(Tool):
    """Where a mic is heard, and how far it is down elsewhere.

    spans : in order, (first sample, the one after the last) of the recording, from the start of a hit to the end of its ring; floors : by the first sample of
    a region, by how much the mic is down from its end to the next region, where that is not ``down_db``
    """

    drawn: ClassVar[bool] = True
    of_the_song: ClassVar[tuple[str, ...]] = ("spans", "floors")

    kind: str = kind("regions")
    down_db: float = number(
        24.0, 0.0, SILENCE_DB, step=1.0, unit="dB", help="lower between hits; 10 to 24 keeps some life, 90 is silence"
    )
    lead_ms: float = number(3.0, 0.0, 50.0, step=0.1, unit="ms", help="heard this much before a hit begins")
    fade_in_ms: float = number(2.0, 0.1, 100.0, step=0.1, unit="ms", help="comes up within this, before the lead")
    fade_out_ms: float = number(
        80.0, 1.0, 2000.0, step=1.0, unit="ms", help="fades out over this after the ring, linear in dB"
    )
    sooner_ms: float = number(
        0.0, 0.0, 2000.0, step=5.0, unit="ms", help="each ends so much before its ring does: a shorter drum"
    )
    spans: tuple[tuple[int, int], ...] = ()
    floors: tuple[tuple[int, float], ...] = ()

    def __post_init__(self) -> None:
        Tool.__post_init__(self)
        if len(self.spans) > MOST_SPANS:
            raise SettingsError(f"spans: at most {MOST_SPANS:,} regions, got {len(self.spans):,}.")
        before = -FARTHEST
        for number_, (start, stop) in enumerate(self.spans, 1):
            if stop <= start:
                raise SettingsError(f"spans: region {number_} ends at sample {stop}, where it should begin ({start}).")
            if start < before or stop > FARTHEST:
                raise SettingsError(f"spans: region {number_} begins at sample {start}, inside the one before it.")
            before = stop
        if len(self.floors) > MOST_FLOORS or len({at for at, _ in self.floors}) < len(self.floors):
            raise SettingsError(f"floors: at most {MOST_FLOORS}, and one for each region; got {len(self.floors)}.")
        for _, down_db in self.floors:
            if not 0.0 <= down_db <= SILENCE_DB:
                raise SettingsError(f"floors: {down_db:g} dB is outside 0 to {SILENCE_DB:g} dB.")

    def __hash__(self) -> int:
        return quick_hash(self, self.spans)

    def reach(self, sample_rate_hz: int) -> Reach:
        """Return what it must hear beyond a span: nothing, what it does is known beforehand."""
        return NOTHING

    @property
    def between(self) -> float:
        """The gain between regions."""
        return _gain(self.down_db)


def _gain(down_db: float) -> float:
    return 0.0 if down_db >= SILENCE_DB else float(db_to_gain(-down_db))


SETTINGS = Regions


def gains(regions: Regions, moved: Moved, start: int, stop: int, sample_rate_hz: int) -> np.ndarray:
    """Return its gain over a part of the song, linear, float32 [shape=(stop - start,)].

    moved : tells where its regions lie in the song. Between two that are nearer than their fades, the one that is louder counts.
    """
    lead, fade_in, fade_out = (
        max(round(ms_to_samples(ms, sample_rate_hz)), least)
        for ms, least in ((regions.lead_ms, 0), (regions.fade_in_ms, 1), (regions.fade_out_ms, 1))
    )
    spans, open_ = moved(regions.spans).reshape(-1, 2), np.zeros(stop - start, np.float32)
    if regions.sooner_ms:
        sooner, shortest = (round(ms_to_samples(ms, sample_rate_hz)) for ms in (regions.sooner_ms, SHORTEST_MS))
        ends = np.maximum(spans[:, 1] - sooner, np.minimum(spans[:, 0] + shortest, spans[:, 1]))
        spans = np.stack([spans[:, 0], ends], axis=1)
    first = np.searchsorted(spans[:, 1], start - fade_out)
    last = np.searchsorted(spans[:, 0], stop + lead + fade_in)
    begins, ends = (np.ascontiguousarray(each) for each in (spans[first:last] - [lead + start, start]).T)
    _drawing.raise_spans(open_, begins, ends, _fade(fade_in), _way_down(regions, fade_out))
    between = np.float32(regions.between)
    out = between + (np.float32(1.0) - between) * open_
    own = dict(regions.floors)
    for k in range(max(int(first) - 1, 0), min(int(last) + 1, len(spans))) if own else ():
        if (at := regions.spans[k][0]) in own:
            gap = spans[k, 1], (spans[k + 1, 0] if k + 1 < len(spans) else FARTHEST) - lead
            _lower(out, start, *gap, own[at], fade_in, fade_out)
    return out


def _lower(out: np.ndarray, start: int, begin: int, end: int, down_db: float, fade_in: int, fade_out: int) -> None:
    """Write the gain between two regions into a part of the song: down by so much from the end of the one, up again before the other; the louder counts."""
    at = np.arange(max(begin, start), min(end, start + out.size))
    if at.size:
        floor = _gain(down_db)
        fallen, risen = (at - begin + 0.5) / fade_out, np.clip((at - (end - fade_in) + 0.5) / fade_in, 0.0, 1.0)
        falling = np.where(fallen < 1.0, db_to_gain(-min(down_db, SILENCE_DB) * fallen), 0.0)
        out[at[0] - start : at[-1] + 1 - start] = np.maximum(falling, floor + (1.0 - floor) * cubic(risen))


def _fade(length: int) -> np.ndarray:
    return cubic((np.arange(length) + 0.5) / length).astype(np.float32)


def _way_down(regions: Regions, length: int) -> np.ndarray:
    """Return how far open it is on its way down: a straight line in dB, as a drum falls."""
    gain = db_to_gain(-min(regions.down_db, SILENCE_DB) * (np.arange(length) + 0.5) / length)
    return ((gain - regions.between) / max(1.0 - regions.between, 1e-9)).astype(np.float32)


class Run:
    """Regions of a bank's mics; lanes without any pass unchanged."""

    ahead = 0

    def __init__(self, tools: Sequence[Regions | None], sample_rate_hz: int, width: int, linked: bool = False) -> None:
        self._mine = [lane for lane, each in enumerate(tools) if each is not None]

    def run(self, bank: np.ndarray, count: int, key: np.ndarray) -> None:
        """Multiply the first ``count`` rows of a bank [float32, shape=(samples, width)] in place by the gains that ``key``, one of the same shape, holds."""
        for lane in self._mine:
            bank[:count, lane] *= key[:count, lane]


def oracle(x: np.ndarray, regions: Regions, sample_rate_hz: int, key: np.ndarray | None = None) -> np.ndarray:
    """Return a signal [shape=(samples,)] cut by hits, sample by sample in double precision; key : its gains where they are known."""
    if key is not None:
        return x * key
    lead, up, down = (ms * sample_rate_hz / 1000.0 for ms in (regions.lead_ms, regions.fade_in_ms, regions.fade_out_ms))
    lead, up, down = round(lead), max(round(up), 1), max(round(down), 1)
    sooner, shortest = (round(ms * sample_rate_hz / 1000.0) for ms in (regions.sooner_ms, SHORTEST_MS))
    out, own = np.empty(len(x)), dict(regions.floors)
    for i, value in enumerate(np.asarray(x, float).tolist()):
        down_db = regions.down_db
        for start, ends in regions.spans:  # the last that has ended says how far it is down
            if i >= max(ends - sooner, min(start + shortest, ends)):
                down_db = own.get(start, regions.down_db)
        gain = between = _gain(down_db)
        for start, ends in regions.spans:
            stop = max(ends - sooner, min(start + shortest, ends))
            if i < start - lead:
                done = min(max((i - (start - lead - up) + 0.5) / up, 0.0), 1.0)
                here = between + (1.0 - between) * done * done * (3.0 - 2.0 * done)
            elif i < stop:
                here = 1.0
            else:
                done = (i - stop + 0.5) / down
                here = 10.0 ** (-min(down_db, SILENCE_DB) * done / 20.0) if done < 1.0 else 0.0
            gain = max(gain, here)
        out[i] = value * gain
    return out
