"""Which strips are heard: what the Plan has off in the mix, and what somebody who listens has soloed and muted.

What is muted, or in a muted group, is never heard. Where mics or groups are soloed, only they are, and in paths only what comes from them; where paths are
soloed, only those, and what is not soloed is heard in them alone.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.rig.strips import Strip
from arkund.core.rig.wiring import group_id


@dataclass(frozen=True, slots=True)
class Hearing:
    """What is heard: ids of the mics, groups and paths that sound, and whether mics and groups go to the kit by themselves."""

    mics: frozenset[str]
    groups: frozenset[str]
    paths: frozenset[str]
    dry: bool

    def sounds(self, name: str) -> bool:
        """Say whether a strip (``mic:ID``, ``group:ID``, ``path:ID``) is heard at all."""
        kind, _, strip = name.partition(":")
        return strip in {"mic": self.mics, "group": self.groups, "path": self.paths}.get(kind, ())


@dataclass(frozen=True, slots=True)
class Listening:
    """What somebody who listens has soloed and muted: names of strips (``mic:ID``, ``group:ID``, ``path:ID``). No part of a Plan, and of no print."""

    solo: frozenset[str] = frozenset()
    mute: frozenset[str] = frozenset()

    def still_there(self, plan: Plan) -> "Listening":
        """Return it without strips that the Plan lacks."""
        rows = (("mic", plan.mics), ("group", plan.groups), ("path", plan.paths))
        known = {f"{sort}:{each.id}" for sort, row in rows for each in row}
        return Listening(self.solo & known, self.mute & known)


ALL = Listening()  # nothing is soloed or muted for listening


def hearing(plan: Plan, listening: Listening = ALL) -> Hearing:
    """Return what is heard of a Plan."""
    group_of = {mic.id: group_id(mic, plan.groups) for mic in plan.standing}
    muted, soloed = _muted_and_soloed("group", plan.groups, listening)
    muted_mics, soloed_mics = _muted_and_soloed("mic", plan.standing, listening)
    muted_paths, soloed_paths = _muted_and_soloed("path", plan.paths, listening)
    dry_solo, path_solo = bool(soloed or soloed_mics), bool(soloed_paths)
    mics = frozenset(
        mic.id
        for mic in plan.standing
        if mic.id not in muted_mics
        and group_of[mic.id] not in muted
        and (not dry_solo or mic.id in soloed_mics or group_of[mic.id] in soloed)
    )
    paths = [path for path in plan.paths if path.id not in muted_paths and (path.id in soloed_paths or not path_solo)]
    # Where others are soloed, a group is still heard as far as something of theirs goes through it.
    through = {group_of[mic] for mic in mics} | {path.into for path in paths}
    groups = {group.id for group in plan.groups if not dry_solo or group.id in soloed | through} - muted
    return Hearing(mics, frozenset(groups), frozenset(path.id for path in paths), dry_solo or not path_solo)


def _muted_and_soloed(sort: str, row: Iterable[Strip], listening: Listening) -> tuple[set[str], set[str]]:
    """Return the ids of strips of a sort that are not heard, and of those that are soloed."""
    muted = {each.id for each in row if each.mute or f"{sort}:{each.id}" in listening.mute}
    return muted, {each.id for each in row if f"{sort}:{each.id}" in listening.solo}


def audible(plan: Plan) -> list[MicPlan]:
    """Return the mics that are heard in the kit."""
    heard = hearing(plan).mics
    return [mic for mic in plan.mics if mic.id in heard]


def bare(plan: Plan) -> Plan:
    """Return a Plan without any tool, path and scene, nothing turned over for a filter's sake: what is left of it is levels and places."""
    return plan.replace(
        mics=tuple(mic.replace(tools=(), sends=(), line_up=mic.line_up.replace(turned=False)) for mic in plan.mics),
        groups=tuple(group.replace(tools=(), sends=()) for group in plan.groups),
        paths=(),
        kit=plan.kit.replace(tools=()),
        scenes=(),
    )
