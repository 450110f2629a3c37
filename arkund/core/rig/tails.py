"""What sounds on when nothing comes in any more."""

from arkund.core.plan.plan import Plan
from arkund.core.rig.places import all_of


def rings_s(plan: Plan) -> float:
    """Return how long a song rings on after its end: as the longest mic, group, path and the kit do one after the other."""
    longest: dict[str, float] = {}
    for each in all_of(plan):
        mine = sum(tool.rings_s() for tool in each.strip.tools if tool.on)
        longest[each.sort] = max(longest.get(each.sort, 0.0), mine)
    return sum(longest.values())
