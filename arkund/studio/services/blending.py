"""The song's sections across its strips: what is set in each, and how loud each strip is there as it was measured."""

from arkund.core.plan import change
from arkund.core.plan.plan import Plan
from arkund.core.plan.scenes import by_section
from arkund.core.rig.places import KIT
from arkund.core.units import SILENCE_DB

OUTPUTS = {"mics": "strip", "groups": "group", "paths": "path"}
LEAST_LUFS = SILENCE_DB + 60.0  # below, nothing sounds


class Cells:
    """What the cells of a strip show. song : what was measured over the whole song, None where that is still to come"""

    def __init__(self, plan: Plan, song: dict | None) -> None:
        self._plan, self._song = plan.replace(scenes=()), song or {}
        self._parts = by_section(plan)

    def of(self, place: str) -> dict:
        """Return for a strip, by its place in the Plan, its level, mute and loudness in each section, and over the song; which of them a scene holds."""
        level, mute = f"{place}.level_db", f"{place}.mute"
        muted = [] if place == KIT else [change.get(part, mute) for part, _ in self._parts]
        held = [
            any(each.place in (level, mute) for scene in scenes for each in scene.held) for _, scenes in self._parts
        ]
        return {
            "levels_db": [change.get(part, level) for part, _ in self._parts],
            "mutes": muted,
            "held": held,
            "lufs": self._loudness(place),
        }

    def _loudness(self, place: str) -> list[float | None]:
        """Return how loud a strip is over the song and then in each section, None where it is not known or silent; mics with their level."""
        field, _, key = place.partition(".")
        found = self._song.get(KIT if field == KIT else f"{OUTPUTS[field]}:{key}")
        if found is None:
            return [None] * (1 + len(self._parts))
        levels = [found["loudness_lufs"], *found["sections_lufs"]]
        if field == "mics":  # measured before their level
            sets = [change.get(self._plan, f"{place}.level_db")] + [
                change.get(part, f"{place}.level_db") for part, _ in self._parts
            ]
            levels = [loud + set_db for loud, set_db in zip(levels, sets, strict=True)]
        return [None if loud < LEAST_LUFS else round(loud, 1) for loud in levels]
