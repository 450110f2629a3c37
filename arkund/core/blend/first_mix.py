"""A first mix: levels and places by role and piece, groups by what all of them reach together, SUSTAIN as far under the kit as its style wants."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from arkund.core.blend.recipes import FIRST_DB, LEAST_PEAK_DB, sends_of, with_paths
from arkund.core.dsp.loudness import Loudness
from arkund.core.rig.strips import Group, Path

PANS = {
    "hihat": -0.5,
    "tom1": -0.3,
    "tom2": 0.2,
    "tom3": 0.4,
    "tom4": 0.5,
    "floor": 0.6,
    "ride": 0.5,
    "crash": -0.4,
}
LEVELS_DB = {
    "room": -9.0,
    "talkback": -60.0,
    "overhead": -4.0,
    "spot": -12.0,
    "bottom": -4.0,
    "sub": -4.0,
    "out": -2.0,
}
MIX_PEAK_DB = -8.0  # of groups and mics together, before the kit's tools
UNDER_DB = {"natural": 14.0, "punchy": 10.0, "heavy": 7.0}  # how much softer than the kit SUSTAIN is blended in
FIRST_PATHS = ("sustain",)


@dataclass(frozen=True, slots=True)
class FirstMix:
    """What a first mix was solved for: the level of every group, and the paths."""

    groups_db: float
    paths: tuple[Path, ...]

    def changes(self, plan) -> dict:
        """Return it as changes of a Plan."""
        groups = {f"groups.{group.id}.level_db": self.groups_db for group in plan.groups}
        return first_balance(plan) | groups | with_paths(plan, self.paths, shells(plan))


def place_of(mic, side: str) -> float:
    """Return where a mic belongs between left (-1) and right (1)."""
    if side:
        return -1.0 if side == "L" else 1.0
    return PANS.get(mic.piece, 0.0)


def first_balance(plan) -> dict:
    """Return levels and places by role and piece, as changes of a Plan; paths and sends stay as they are."""
    changes = {}
    for mic in plan.mics:
        both = {other.side for other in plan.mics if other.role == mic.role and not other.mute} >= {"L", "R"}
        changes[f"mics.{mic.id}.level_db"] = LEVELS_DB.get(mic.role, 0.0)
        changes[f"mics.{mic.id}.pan"] = place_of(mic, mic.side if both else "")
    return changes


def shells(plan) -> Mapping[str, float]:
    """Return who is sent to the path, muted ones but not layers left out."""
    return sends_of("sustain", [mic for mic in plan.mics if not mic.mute])


def bare(plan):
    """Return the Plan that a first mix is measured on: its balance without paths, sends and scenes, groups at 0 dB."""
    mics = tuple(mic.replace(sends=()) for mic in plan.mics)
    groups = tuple(group.replace(sends=(), level_db=0.0) for group in plan.groups)
    return plan.replace(scenes=(), paths=(), mics=mics, groups=groups)


def groups_db(mix: Loudness) -> float:
    """Return the level of all groups at which a mix that was measured with them at 0 dB reaches MIX_PEAK_DB; 0 dB for silence."""
    if mix.peak_db <= LEAST_PEAK_DB:
        return 0.0
    limits = Group.ranges()["level_db"]
    return round(float(np.clip(MIX_PEAK_DB - mix.peak_db, limits.low, limits.high)), 1)


def path_db(school: str, path: Loudness, mix: Loudness) -> float:
    """Return the level of a path that was measured at 0 dB, as far under a mix with its groups at their level as a school wants."""
    if path.peak_db < LEAST_PEAK_DB:
        return FIRST_DB
    limits = Path.ranges()["level_db"]
    level = mix.loudness_lufs - path.loudness_lufs + groups_db(mix) - UNDER_DB[school]
    return round(float(np.clip(level, limits.low, limits.high)), 1)
