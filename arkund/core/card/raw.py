"""The kits that a card compares with: every recorded mic as it came, in time and polarity, at one level or trimmed."""

from arkund.core.plan.plan import Plan
from arkund.core.rig.hearing import bare


def raw_plan(plan: Plan) -> Plan:
    """Return the Plan of the lined-up raw sum: no tools, layers, replaced hits, paths and scenes, every mic and group at 0 dB."""
    trimmed = trimmed_plan(plan)
    return trimmed.replace(mics=tuple(mic.replace(trim_db=0.0) for mic in trimmed.mics))


def trimmed_plan(plan: Plan) -> Plan:
    """Return the Plan of the same sum with its trims: what was recorded too hot or too soft is in its place, and nothing else was done."""
    plain = bare(plan)
    mics = tuple(m.replace(level_db=0.0, mute=False) for m in plain.mics if not m.is_layer)
    groups = tuple(group.replace(level_db=0.0, pan=0.0, mute=False) for group in plain.groups)
    owner = plan.low_owner if plan.low_owner in {mic.id for mic in mics} else ""
    kit = plain.kit.replace(level_db=0.0)
    return plain.replace(mics=mics, groups=groups, kit=kit, placements=(), low_owner=owner)
