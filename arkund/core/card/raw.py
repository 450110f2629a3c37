"""The kits that a card compares with: every recorded mic as it came, in time and polarity, at one level."""

from arkund.core.load.measure import pairs
from arkund.core.plan.plan import Plan
from arkund.core.rig.hearing import bare


def raw_plan(plan: Plan) -> Plan:
    """Return the Plan of the lined-up raw sum: no tools, layers, replaced hits, paths and scenes, every mic and group at 0 dB."""
    plain = bare(plan)
    mics = tuple(m.replace(trim_db=0.0, level_db=0.0, mute=False) for m in plain.mics if not m.is_layer)
    groups = tuple(group.replace(level_db=0.0, pan=0.0, mute=False) for group in plain.groups)
    owner = plan.low_owner if plan.low_owner in {mic.id for mic in mics} else ""
    kit = plain.kit.replace(level_db=0.0)
    return plain.replace(mics=mics, groups=groups, kit=kit, placements=(), low_owner=owner)


def balanced_plan(plan: Plan) -> Plan:
    """Return the Plan of the raw sum whose pairs are balanced: one side of overheads or rooms that was recorded hotter is put right by their trims."""
    trims_db: dict[str, float] = {}
    for left, right in pairs(plan):
        half_db = (left.trim_db - right.trim_db) / 2.0
        trims_db |= {left.id: half_db, right.id: -half_db}
    raw = raw_plan(plan)
    return raw.replace(mics=tuple(mic.replace(trim_db=trims_db.get(mic.id, 0.0)) for mic in raw.mics))
