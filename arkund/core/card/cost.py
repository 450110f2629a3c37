"""What a mix must not lose: the other half of the kit card. Measured on what comes out, the kit against the raw sum of the same recordings, its pairs balanced.

A figure of the first half can be bought with any of these: hits cut short stand out, equal hits are dense, a narrow kit is centred. Each has a limit by style.
"""

from collections.abc import Mapping
from functools import cached_property

import numpy as np

from arkund.core.card.measure import (
    QUIETEST_DB,
    clear_of,
    lone_times,
    peaks_db,
    strong_times,
    times,
)
from arkund.core.card.sound import STRONG, Energy, Sound
from arkund.core.card.targets import INF, SCHOOLS, off_by, wanted, within
from arkund.core.clean.settings import RINGS_OUT_DB
from arkund.core.dsp.spectrum import bands_of_db
from arkund.core.errors import AudioError
from arkund.core.kit.pieces import is_shell
from arkund.core.units import power_to_db

PEAK_MS = 15.0  # of a hit
# No other shell so long before a hit and after it: its level would change the spread of the hit's peaks.
ALONE_MS = (60.0, 20.0)
LEAST_ACCENT_DB, LEAST_ACCENTS = 0.5, 6  # of a spread that there is to keep, and of hits that tell it
LONE_HIT_MS = 60.0  # of a hat that sounds alone
LEAST_LONE = 8
FRAME_MS, HIT_FRAME_MS, AFTER_HIT_MS = 10.0, 50.0, 60.0
HEARD_UNDER_HITS_DB = 30.0  # what lies further under the hits may go
DEEPEST = 0.05  # of all frames
TOP_HZ, BELOW_TOP_HZ = (11_000.0, 18_000.0), (4000.0, 11_000.0)
GAP_SHARE = 0.2  # of all frames: the softest, which are what lies between hits


SPREAD = (
    "spread (standard deviation) of its peaks in the kit against that in the raw sum, for hits with no other shell near"
)
REDUCED = "what clippers, saturation and limiters take off peaks at kicks and back-beats on their way to the kit"
COSTS = (
    wanted("plr", "least peak-to-loudness ratio", (11.0, INF), how="true peak minus integrated loudness"),
    wanted("clip_usual", "clipping of a usual hit", (-INF, 0.1), (-INF, 0.5), (-INF, 2.0), how=f"{REDUCED}: the median"),
    wanted("clip_loudest", "clipping of the loudest hits", (-INF, 1.0), (-INF, 3.0), (-INF, 5.0), how=f"{REDUCED}: the loudest tenth"),
    wanted("distortion", "distortion of hits", (-INF, -35.0), (-INF, -25.0), (-INF, -18.0),
        how="what clippers, saturation and limiters add to kicks and back-beats beyond the best gain by third octave, 31.5 Hz to 16 kHz"),
    wanted("accents_kick", "kick accents", (80.0, INF), (60.0, INF), (40.0, INF), unit="%", how=SPREAD),
    wanted("accents_snare", "back-beat accents", (80.0, INF), (60.0, INF), (40.0, INF), unit="%", how=SPREAD),
    wanted("hats_even", "gain range of hi-hat and ride", (-INF, 3.0), (-INF, 4.0), (-INF, 6.0),
        how="above 6 kHz, 5 to 95 %: gain at hits that sound alone, or of their mics' tools over time, whichever varies more"),
    wanted("steady", "gain range of overheads and rooms", (-INF, 2.0), (-INF, 3.0), (-INF, 6.0),
        how="above 6 kHz, 5 to 95 %: gain of their own and their groups' tools over time"),
    wanted("tails", "deepest cut between hits", (-10.0, INF), (-15.0, INF), (-20.0, INF),
        how="of what lies within 30 dB of the hits: how much further it was turned down than they were (deepest 5 %)"),
    wanted("tail_cut", "tails cut at", *((-INF, -RINGS_OUT_DB[style]) for style in SCHOOLS),
        how="how far a drum has rung out when its mic's gate or regions turn it down by 3 dB, median of its hits; a ring below the bleed has rung out"),
    wanted("floor", "noise floor between hits", (-INF, 1.0), (-INF, 3.0), (-INF, 6.0), against="change", how="the softest fifth against the hits"),
    wanted("top", "top end", within(2.0), within(3.0), within(4.0), against="change", how="11 to 18 kHz against 4 to 11 kHz"),
    wanted("width", "stereo width", within(2.0), within(3.0), within(3.0), against="change", how="side against mid"),
    wanted("image_cymbals", "image of the cymbals", within(1.0), against="change", how="overheads, left against right above 6 kHz, between hits"),
)  # fmt: skip
# What the kit's sound alone does not tell, or its other half does.
ELSEWHERE = ("plr", "clip_usual", "clip_loudest", "distortion", "steady", "tail_cut", "image_cymbals")


class Reading:
    """What a sum tells by itself; each of it is measured once, so that one raw sum serves many mixes."""

    def __init__(self, sound: Sound) -> None:
        self.sound, self.rate = sound, sound.sample_rate_hz

    @property
    def highs(self) -> Energy:
        """The power above 6 kHz."""
        return self.sound.through("highs")

    @cached_property
    def spreads_db(self) -> dict[str, float | None]:
        """The standard deviation of each drum's peaks, kick and snare."""
        return {piece: self._spread_db(piece) for piece in STRONG}

    def _spread_db(self, piece: str) -> float | None:
        others = np.array(
            [h.time_s for other, mine in self.sound.hits.items() if other != piece for h in mine if is_shell(other)]
        )
        alone = clear_of(others, times(self.sound.hits, piece), *(ms / 1000.0 for ms in ALONE_MS))
        peaks = peaks_db(self.sound.audio, alone, -1.0, PEAK_MS, self.rate)
        return float(np.std(peaks)) if len(peaks) >= LEAST_ACCENTS else None

    @cached_property
    def hats_db(self) -> dict[str, list[float]]:
        """The level of the highs of hats and of rides that sound alone."""
        return {
            piece: _levels_db(
                self.highs.powers(lone_times(self.sound, piece), 0.0, LONE_HIT_MS, self.rate).sum(axis=1)
            ).tolist()
            for piece in ("hihat", "ride")
        }

    @cached_property
    def hits_db(self) -> list[float]:
        """The level of each kick and back-beat."""
        powers = self.sound.whole.powers(strong_times(self.sound.hits), 0.0, HIT_FRAME_MS, self.rate)
        return _levels_db(powers.sum(axis=1)).tolist()

    @cached_property
    def frames_db(self) -> np.ndarray:
        """The level of each frame."""
        return _levels_db(self.sound.whole.frames(_frame(self.rate)).sum(axis=1))

    @cached_property
    def between(self) -> np.ndarray:
        """Which frames no hit of kick or snare is near before them."""
        starts_s = np.arange(self.frames_db.size) * FRAME_MS / 1000.0
        hits_s = np.sort([h.time_s for piece in STRONG for h in self.sound.hits.get(piece, [])])
        last = np.searchsorted(hits_s, starts_s + FRAME_MS / 1000.0) - 1
        since_s = np.where(last >= 0, starts_s - np.concatenate([hits_s, [-INF]])[last], INF)
        return since_s > AFTER_HIT_MS / 1000.0

    @cached_property
    def floor_db(self) -> float | None:
        """The level of the softest fifth of the frames against that of the hits."""
        if len(self.hits_db) < LEAST_ACCENTS:
            return None
        levels = np.sort(self.frames_db)
        softest = levels[: max(int(GAP_SHARE * levels.size), 1)]
        return float(np.median(softest) - np.median(self.hits_db))

    @cached_property
    def top_db(self) -> float:
        """The top octaves against those below."""
        edges, samples = (TOP_HZ, BELOW_TOP_HZ), self.sound.audio.shape[0]
        top, below = bands_of_db(self.sound.density, edges, samples, self.rate)
        return float(top - below)

    @cached_property
    def width_db(self) -> float | None:
        """Side against mid; None of a mono sound."""
        if self.sound.audio.shape[1] < 2:
            return None
        left, right = self.sound.audio.T
        return power_db(left - right) - power_db(left + right)

    @cached_property
    def cymbals_left_db(self) -> float | None:
        """Left against right of the highs between hits; None of a mono sound, or where hits leave nothing between them."""
        if self.sound.audio.shape[1] < 2 or not self.between.any():
            return None
        left, right = _levels_db(self.highs.frames(_frame(self.rate))).T
        return float(np.median((left - right)[self.between]))


def costs(raw: Sound | Reading, now: Sound) -> dict[str, float | None]:
    """Return the figures of what was lost from a raw sum to a kit, but for those of ELSEWHERE; of a sum against itself, those of no loss.

    raw, now : the same part of the song, with the hits where each has them. Accents are in % of the sum's spread, all else is in dB; None where the playing
    does not tell them. Raises AudioError where the two differ in length or rate.
    """
    before, after = raw if isinstance(raw, Reading) else Reading(raw), Reading(now)
    if before.sound.audio.shape != now.audio.shape or before.rate != now.sample_rate_hz:
        raise AudioError(
            f"costs: expected the same part of the song twice; got {before.sound.audio.shape} and {now.audio.shape} samples."
        )
    return {
        "accents_kick": _kept(before.spreads_db["kick"], after.spreads_db["kick"]),
        "accents_snare": _kept(before.spreads_db["snare"], after.spreads_db["snare"]),
        "hats_even": _hats_even_db(before, after),
        "tails": _deepest_db(before, after),
        "floor": _change(before.floor_db, after.floor_db),
        "top": after.top_db - before.top_db,
        "width": _change(before.width_db, after.width_db),
    }


def over_limit(figures: Mapping[str, float | None], style: str) -> dict[str, float]:
    """Return by figure by how much its limit of a style is passed; those that hold are left out."""
    off = {cost.figure.key: off_by(figures.get(cost.figure.key), cost.ranges[style]) for cost in COSTS}
    return {key: by for key, by in off.items() if by > 0.0}


def image_change_db(raw: Sound, now: Sound) -> float | None:
    """Return by how much the overheads' picture of the cymbals moved to the left, raw and now; None of a mono sound."""
    return _change(Reading(raw).cymbals_left_db, Reading(now).cymbals_left_db)


def _change(before: float | None, after: float | None) -> float | None:
    return None if before is None or after is None else after - before


def _kept(before: float | None, after: float | None) -> float | None:
    return None if before is None or after is None or before < LEAST_ACCENT_DB else 100.0 * after / before


def _hats_even_db(raw: Reading, now: Reading) -> float | None:
    """Return the range, 5 to 95 %, of what was done to the highs of hats and rides that sound alone."""
    changes = []
    for piece, before in raw.hats_db.items():
        after = now.hats_db[piece]
        if len(before) == len(after) >= LEAST_LONE:
            gains = np.subtract(after, before)
            changes.append(gains - np.median(gains))
    if not changes:
        return None
    low, high = np.quantile(np.concatenate(changes), (0.05, 0.95))
    return float(high - low)


def _deepest_db(raw: Reading, now: Reading) -> float | None:
    """Return how much deeper than the hits what is heard between them lies now, at its deepest twentieth: 0 where nothing is cut."""
    at_hits = list(zip(raw.hits_db, now.hits_db, strict=False))
    if len(at_hits) < LEAST_ACCENTS:
        return None
    hit_db, gain_db = np.median([b for b, _ in at_hits]), np.median([a - b for b, a in at_hits])
    heard = (raw.frames_db > hit_db - HEARD_UNDER_HITS_DB) & raw.between
    return float(np.quantile((now.frames_db - raw.frames_db)[heard] - gain_db, DEEPEST)) if heard.any() else None


def _frame(sample_rate_hz: int) -> int:
    return round(FRAME_MS * sample_rate_hz / 1000.0)


def power_db(x: np.ndarray) -> float:
    """Return the level of a sound [shape=(samples,)] in dB."""
    return float(_levels_db(np.mean(np.square(x), dtype=np.float64)))


def _levels_db(power: np.ndarray) -> np.ndarray:
    return np.maximum(power_to_db(power + 1e-18), QUIETEST_DB)
