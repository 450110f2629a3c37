"""Settings of shaper and compressor found by what is wanted of them: each try is measured on the strip's own hits."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.punch.measure import taken, threshold_for_hits
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.shaper import Shaper

WITHIN_DB = 0.1  # of what is wanted: nearer is not sought
MOST_TRIES = 8
SHORTEST_MS = 30.0  # of a release that is solved for: shorter ones follow the drum's own wave
UNREACHED_MS = 60.0  # where the next hit comes before any of them has recovered
SAME_DB = 0.3  # of what comes out: where more is set for no more than this, the least is taken
TOLD_DB = 0.5  # further off than this, what was wanted is said to be missed
LEAST_CHANGE_DB = 0.5  # what would change less is not worth a tool
MOST_REDUCTION_DB, MOST_ATTACK_DB = 30.0, 12.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Wanted:
    """What is asked for; None is not asked for.

    reduction_db : that the usual hit loses at its deepest; left_db : of it that may be left at the next hit; attack_db : change of attack against body by
    all of the strip's tools; as_loud : the compressor's make-up gives back the loudness that it takes
    """

    reduction_db: float | None = None
    left_db: float | None = None
    attack_db: float | None = None
    as_loud: bool = False

    def __post_init__(self) -> None:
        limits = {
            "reduction": (self.reduction_db, 0.0, MOST_REDUCTION_DB),
            "recovered": (self.left_db, 0.05, MOST_REDUCTION_DB),
            "attack": (self.attack_db, -MOST_ATTACK_DB, MOST_ATTACK_DB),
        }
        for name, (value, low, high) in limits.items():
            if value is not None and not low <= value <= high:
                raise SettingsError(f"{name}: {value:g} dB is outside {low:g} to {high:g} dB.")
        if not self.compresses and self.attack_db is None:
            raise SettingsError("solve: nothing is asked for; ask for reduction, recovered, attack or as-loud.")

    @property
    def compresses(self) -> bool:
        """Whether it asks something of a compressor."""
        return self.reduction_db is not None or self.left_db is not None or self.as_loud

    @property
    def words(self) -> str:
        """What is asked for, in words."""
        asked = [
            (self.reduction_db, "{:g} dB at hits"),
            (self.left_db, "at most {:g} dB left at the next"),
            (self.attack_db, "attack against body {:+g} dB"),
        ]
        told = [words.format(value) for value, words in asked if value is not None]
        return ", ".join([*told, "as loud as before"] if self.as_loud else told)


@dataclass(frozen=True, slots=True)
class Solved:
    """What is to be changed for what was wanted; in words what was asked, what was reached and what it cost; reached : figures in dB by what was asked;
    at_end : it took a setting to the end of its range, which no engineer would keep
    """

    title: str
    values: dict[str, Any]
    asked: str
    reached_words: str
    cost: str
    reached: dict[str, float]
    missed: bool
    at_end: bool = False

    @property
    def words(self) -> str:
        """All of it in words."""
        return f"Wanted: {self.asked}. Reached: {self.reached_words}. Cost: {self.cost}."


def compressor_for(heard: list[np.ndarray], first: Compressor, wanted: Wanted, sample_rate_hz: int) -> Compressor:
    """Return a compressor whose threshold and release give what is wanted at hits as ``punch.measure.hits_before`` gives them.

    The release is the longest by which no more than ``left_db`` is left where the windows end, at the next hit; the threshold belongs to it.
    """
    now = first.replace(on=True)

    def at_release(release_ms: float) -> Compressor:
        nonlocal now
        now = now.replace(release_ms=round(release_ms))
        if wanted.reduction_db is not None:  # the last threshold is near the next one
            now = now.replace(threshold_db=threshold_for_hits(heard, now, wanted.reduction_db, sample_rate_hz))
        return now

    if wanted.left_db is None:
        return at_release(now.release_ms)
    limits = Compressor.ranges()["release_ms"]
    low, high = SHORTEST_MS, limits.high
    longest = at_release(high)
    if taken(heard, longest, sample_rate_hz).left_db <= wanted.left_db:
        return longest
    best = at_release(low)
    if taken(heard, best, sample_rate_hz).left_db > wanted.left_db:
        return at_release(UNREACHED_MS)
    while high / low > 1.05:
        middle = float(np.sqrt(low * high))
        tried = at_release(middle)
        if taken(heard, tried, sample_rate_hz).left_db <= wanted.left_db:
            low, best = middle, tried
        else:
            high = middle
    return best


def attack_for(changed_db: Callable[[float], float], wanted_db: float, first_db: float = 0.0) -> float:
    """Return the shaper's attack in dB, to its step, at which attack against body changes by what is wanted, or the nearest that was found.

    changed_db : measures the change with an attack. It rises with it by about a dB for a dB, less where a compressor takes some back: the slope is learnt.
    """
    limits = Shaper.ranges()["attack_db"]
    at, slope, known = float(np.clip(first_db, limits.low, limits.high)), 1.0, {}
    for _ in range(MOST_TRIES):
        at = float(np.clip(round(at / limits.step) * limits.step, limits.low, limits.high))
        if at in known:
            break
        known[at] = changed_db(at)
        off = wanted_db - known[at]
        if abs(off) <= WITHIN_DB:
            break
        if len(known) > 1:
            (a, was), (b, now) = list(known.items())[-2:]
            slope = float(np.clip((now - was) / (b - a), 0.3, 1.5))
        at += off / slope
    nearest = min(abs(found - wanted_db) for found in known.values())
    return min((each for each, found in known.items() if abs(found - wanted_db) <= nearest + SAME_DB), key=abs)


def words_of(wanted: Wanted, reached: Mapping[str, float]) -> tuple[str, bool]:
    """Return what was reached in words, and whether any of what was asked for was missed."""
    told, missed = [], False
    if "attack" in reached:
        told.append(f"attack against body {reached['attack']:+.1f} dB")
        missed |= abs(reached["attack"] - wanted.attack_db) > TOLD_DB
    if "reduction" in reached:
        told.append(f"{reached['reduction']:.1f} dB at its deepest, {reached['recovered']:.1f} dB left at the next hit")
        missed |= wanted.reduction_db is not None and abs(reached["reduction"] - wanted.reduction_db) > TOLD_DB
        missed |= wanted.left_db is not None and reached["recovered"] > wanted.left_db + TOLD_DB
    return ", ".join(told), missed


def at_end(shaper: Shaper | None, compressor: Compressor | None) -> bool:
    """Return whether what was solved for lies at an end of its range: an attack as far as it goes, a threshold that hardly any sound is under."""
    attack, threshold = Shaper.ranges()["attack_db"], Compressor.ranges()["threshold_db"]
    far = shaper is not None and not attack.low < shaper.attack_db < attack.high
    return far or (compressor is not None and compressor.threshold_db <= threshold.low)
