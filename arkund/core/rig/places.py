"""Strips by name: ``mic:ID``, ``group:ID``, ``path:ID`` and ``kit``, where they stand in a Plan, and a Plan with one of them changed."""

from dataclasses import dataclass

from arkund.core.errors import SettingsError
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.rig.strips import Group, Kit, Path

FIELDS = {"mic": "mics", "group": "groups", "path": "paths"}
KIT = "kit"


@dataclass(frozen=True, slots=True)
class Named:
    """A strip of a Plan. name : as above; place : its path in the Plan, such as ``groups.kick``; words : its name for people."""

    name: str
    place: str
    words: str
    strip: MicPlan | Group | Path | Kit

    @property
    def sort(self) -> str:
        """What kind of strip it is."""
        return self.name.partition(":")[0]

    @property
    def output(self) -> str:
        """The output of ``render`` that gives it after its tools; of groups, paths and the kit at its level."""
        return f"strip:{self.strip.id}" if self.sort == "mic" else self.name


def all_of(plan: Plan) -> list[Named]:
    """Return the strips of a Plan: mics, groups, paths, the kit."""
    out = [
        Named(f"{sort}:{strip.id}", f"{field}.{strip.id}", strip.name, strip)
        for sort, field in FIELDS.items()
        for strip in getattr(plan, field)
    ]
    return [*out, Named(KIT, KIT, "kit", plan.kit)]


def named(plan: Plan, name: str) -> Named:
    """Return a strip by its name; a mic also by its id alone. Raises SettingsError where there is none."""
    known = all_of(plan)
    found = next((each for each in known if name in (each.name, each.name.removeprefix("mic:"))), None)
    if found is None:
        raise SettingsError(f"strip: no {name!r}; there are {', '.join(each.name for each in known)}.")
    return found


def with_strip(plan: Plan, name: str, **changes) -> Plan:
    """Return a Plan with a strip changed."""
    mine = named(plan, name)
    new = mine.strip.replace(**changes)
    if mine.sort == KIT:
        return plan.replace(kit=new)
    field = FIELDS[mine.sort]
    return plan.replace(**{field: tuple(new if each is mine.strip else each for each in getattr(plan, field))})
