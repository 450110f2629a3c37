"""Does a Plan fit the session that it is for? What it names must be there: takes, and a recording for each mic."""

import re
from collections.abc import Collection, Iterator, Mapping

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import Plan

MIC_ID = re.compile(r"[-_a-z0-9]{1,60}")  # as it stands in addresses


def names(plan: Plan) -> tuple:
    """Return all by which a Plan refers to its session; where two Plans agree in it, the one fits as well as the other."""
    return plan.take, tuple((mic.id, mic.made is None) for mic in plan.mics), frozenset(_takes(plan))


def check(plan: Plan, takes: Mapping[str, Collection[str]]) -> None:
    """Raise SettingsError where a Plan does not fit.

    takes : the mics that were recorded, by the key of their take
    """
    for where, key in _takes(plan):
        if key not in takes:
            raise SettingsError(f"{where}: no take {key!r} in this session; there are {', '.join(sorted(takes))}.")
    planned, recorded = {mic.id for mic in plan.mics if not mic.made}, {mic for mics in takes.values() for mic in mics}
    for mic in plan.mics:
        if mic.made and mic.id in recorded:
            raise SettingsError(f"mics: {mic.id} was recorded, and cannot be a layer as well; give that another id.")
    for mic_id in sorted(recorded - planned):
        raise SettingsError(f"mics: {mic_id} was recorded and is no longer among them; mute it instead.")
    for mic_id in sorted(planned - recorded):
        raise SettingsError(f"mics: no recording of {mic_id!r} in this session.")
    for mic_id in (mic.id for mic in plan.mics):
        if not MIC_ID.fullmatch(mic_id):
            raise SettingsError(f"mics: {mic_id[:80]!r} is no mic's id; small letters, digits, - and _ make one.")


def _takes(plan: Plan) -> Iterator[tuple[str, str]]:
    """Return where a Plan names a take, and which."""
    yield "take", plan.take
    yield from (("joins", join.take) for join in plan.joins)
    yield from (("captures", capture.take) for capture in plan.captures)
