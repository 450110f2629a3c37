"""What rows of tools do to mics over time, measured by what comes into them and what leaves them: how steady cymbals stay, and where a drum's tail is cut."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from scipy.signal import butter, sosfilt

from arkund.core.card.sound import HIGHS_HZ, ORDER
from arkund.core.clean.ring import GONE_S, HOP_S, OVER_BLEED_DB, RISE_S, Ringing
from arkund.core.tools.tool import Tool
from arkund.core.units import power_to_db

FRAME_MS = 50.0
HEARD_DB = 30.0  # under the loudest frames
LOUDEST, RANGE = 0.95, (0.05, 0.95)  # of all frames
CUT_DB = 3.0  # by which a tail is turned down where it counts as cut
SOFTER_DB = 12.0  # than the loudest: what rings of softer strokes is covered by others
NOT_CUT_DB = -60.0  # what is told of a tail that is not
LEAST_POWER = 1e-12
Stage = tuple[np.ndarray, np.ndarray]
Figures = Mapping[str, float | None]


@dataclass(frozen=True, slots=True)
class OfRows:
    """What rows tell of a kit, in dB; None where it is not known.

    steady, hats : the gain range of overheads and rooms, and of hi-hat and ride; tail_cut : where tails are cut; image_cymbals : by how much the overheads'
    image moved; has_pair : whether there is a pair of overheads or rooms
    """

    steady: float | None
    hats: float | None
    tail_cut: float | None
    image_cymbals: float | None
    has_pair: bool

    def among(self, figures: Figures) -> dict[str, float | None]:
        """Return figures of what was lost with these among them. The width of panned close mics is the mix's own, and told of no kit without a pair."""
        told = {"steady": self.steady, "tail_cut": self.tail_cut, "image_cymbals": self.image_cymbals}
        even = figures["hats_even"]
        told["hats_even"] = even if even is None or self.hats is None else max(even, self.hats)
        return {**figures, **told} if self.has_pair else {**figures, **told, "width": None}

    @property
    def of_no_loss(self) -> "OfRows":
        """What they would tell where no row does anything."""
        known = {"steady": 0.0, "hats": 0.0, "tail_cut": NOT_CUT_DB, "image_cymbals": 0.0}
        return replace(self, **{name: value for name, value in known.items() if getattr(self, name) is not None})


def is_steady(tools: Iterable[Tool]) -> bool:
    """Say whether what is on of some tools does the same at every moment: filters that stand still, or nothing."""
    return all(tool.kind == "tone" and not tool.moving for tool in tools if tool.on)


def gain_range_db(stages: Sequence[Stage], sample_rate_hz: int) -> float | None:
    """Return the range, 5 to 95 % of the time, of what rows behind each other do to a mic above 6 kHz where it is heard; None of silence.

    stages : what comes into each row and what leaves it, float32 [each shape=(samples, channels)]; a mic's row, then that of its group
    """
    filters = butter(ORDER, HIGHS_HZ, "highpass", fs=sample_rate_hz, output="sos")
    size = round(FRAME_MS * sample_rate_hz / 1000.0)

    def levels_db(x: np.ndarray) -> np.ndarray:
        return _levels_db(sosfilt(filters, x, axis=0), size)

    pairs = [(levels_db(before), levels_db(after)) for before, after in stages]
    first = pairs[0][0]
    heard = first > max(float(np.quantile(first, LOUDEST)) - HEARD_DB, float(power_to_db(10.0 * LEAST_POWER)))
    if not heard.any():
        return None
    low, high = np.quantile(sum(after - before for before, after in pairs)[heard], RANGE)
    return float(high - low)


def cut_db(
    before: np.ndarray,
    after: np.ndarray,
    ringing: Ringing,
    trim_db: float,
    times_s: Sequence[float],
    sample_rate_hz: int,
) -> float | None:
    """Return how far a drum has rung out where its tail is cut, in dB against its hits: the median of its hits; NOT_CUT_DB of those that ring on, or have sunk
    into the bleed by then. None where no hit rings out before the next.

    before, after : what comes into the tools that clean a mic and what leaves them, float32 [each shape=(samples,)]; ringing : of the drum in that mic as it
    was recorded; trim_db : at which it comes in; times_s : of all its hits
    """
    hop, rise = round(HOP_S * sample_rate_hz), round(RISE_S / HOP_S)
    was_db, now_db = (_levels_db(x[:, None], hop) for x in (before, after))
    fall_db, bleed_db = np.asarray(ringing.fall_db), ringing.bleed_db + trim_db
    at, found = np.sort(np.round(np.asarray(times_s) / HOP_S).astype(int)), []
    levels_db = {first: was_db[max(first, 0) : first + rise + 1].max(initial=-np.inf) for first in at.tolist()}
    least_db = max(levels_db.values(), default=0.0) - SOFTER_DB
    for first, following in pairwise([*at.tolist(), was_db.size]):
        mine = slice(max(first, 0), min(following - 1, first + fall_db.size, was_db.size))
        gains_db = (now_db - was_db)[mine]
        if gains_db.size <= rise + 1 or levels_db[first] < least_db:
            continue
        ring_db = levels_db[first] + fall_db
        rung_out = np.flatnonzero((fall_db < -HEARD_DB) | (ring_db <= bleed_db + OVER_BLEED_DB))
        down = rise + np.flatnonzero(gains_db[rise:] < np.median(gains_db[1:rise]) - CUT_DB)
        if down.size:
            next_db = was_db[mine][down[0] : down[0] + round(GONE_S / HOP_S)]
            heard = (
                min(ring_db[down[0]], next_db.max()) > bleed_db + OVER_BLEED_DB
            )  # it may have died sooner than usual
            found.append(max(float(fall_db[down[0]]), NOT_CUT_DB) if heard else NOT_CUT_DB)
        elif rung_out.size and rung_out[0] < gains_db.size:
            found.append(NOT_CUT_DB)
    return float(np.median(found)) if found else None


def _levels_db(x: np.ndarray, size: int) -> np.ndarray:
    frames = np.square(x[: x.shape[0] // size * size], dtype=np.float64).sum(axis=1).reshape(-1, size)
    return power_to_db(frames.mean(axis=1) + LEAST_POWER)
