"""Which strips are heard: mute and solo across mics, groups and paths.

What is muted, or in a muted group, is never heard. Where mics or groups are soloed, only they are, and in paths only what comes from them; where paths are
soloed, only those, and what is not soloed is heard in them alone.
"""

from dataclasses import dataclass

from arkund.core.plan.plan import MicPlan, Plan
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


def hearing(plan: Plan) -> Hearing:
    """Return what is heard of a Plan."""
    group_of = {mic.id: group_id(mic, plan.groups) for mic in plan.standing}
    muted = {group.id for group in plan.groups if group.mute}
    soloed = {group.id for group in plan.groups if group.solo}
    dry_solo = bool(soloed) or any(mic.solo for mic in plan.standing)
    path_solo = any(path.solo for path in plan.paths)
    mics = frozenset(
        mic.id
        for mic in plan.standing
        if not mic.mute and group_of[mic.id] not in muted and (not dry_solo or mic.solo or group_of[mic.id] in soloed)
    )
    paths = [path for path in plan.paths if not path.mute and (path.solo or not path_solo)]
    # Where others are soloed, a group is still heard as far as something of theirs goes through it.
    through = {group_of[mic] for mic in mics} | {path.into for path in paths}
    groups = {group.id for group in plan.groups if not dry_solo or group.id in soloed | through} - muted
    return Hearing(mics, frozenset(groups), frozenset(path.id for path in paths), dry_solo or not path_solo)


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
