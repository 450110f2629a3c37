"""Does a Plan fit the session that it is for? What it names must be there: takes, and a recording for each mic."""

import re
from collections.abc import Collection, Iterator, Mapping

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import SHELF, Plan

MIC_ID = re.compile(r"[-_a-z0-9]{1,60}")  # as it stands in addresses


def names(plan: Plan) -> tuple:
    """Return all by which a Plan refers to its session; where two Plans agree in it, the one fits as well as the other."""
    return (
        plan.take,
        tuple((mic.id, mic.is_layer) for mic in plan.mics),
        frozenset(_takes(plan)),
        frozenset(_parts(plan)),
    )


def check(plan: Plan, takes: Mapping[str, Collection[str]]) -> None:
    """Raise SettingsError where a Plan does not fit.

    takes : the mics that were recorded, by the key of their take; of SHELF the recordings that are hits from files
    """
    for where, key in _takes(plan):
        if key not in takes and key != SHELF:
            raise SettingsError(f"{where}: no take {key!r} in this session; there are {', '.join(sorted(takes))}.")
    for key in sorted(set(_parts(plan)) - set(takes.get(SHELF, ()))):
        raise SettingsError(f"captures: the shelf of this session has no recording {key!r}.")
    planned = {mic.id for mic in plan.mics if not mic.is_layer}
    recorded = {mic for key, mics in takes.items() if key != SHELF for mic in mics}
    for mic in plan.mics:
        if mic.is_layer and mic.id in recorded:
            raise SettingsError(f"mics: {mic.id} was recorded, and cannot be a layer as well; give that another id.")
    for mic_id in sorted(recorded - planned):
        raise SettingsError(f"mics: {mic_id} was recorded and is no longer among them; mute it instead.")
    for mic_id in sorted(planned - recorded):
        raise SettingsError(f"mics: no recording of {mic_id!r} in this session.")
    for mic_id in (mic.id for mic in plan.mics):
        if not MIC_ID.fullmatch(mic_id):
            raise SettingsError(f"mics: {mic_id[:80]!r} is no mic's id; small letters, digits, - and _ make one.")


def _parts(plan: Plan) -> Iterator[str]:
    """Return the recordings of the shelf that a Plan names."""
    yield from (part.key for capture in plan.captures for part in capture.parts)


def _takes(plan: Plan) -> Iterator[tuple[str, str]]:
    """Return where a Plan names a take, and which."""
    yield "take", plan.take
    yield from (("joins", join.take) for join in plan.joins)
    yield from (("captures", capture.take) for capture in plan.captures)
