"""Strokes of the kit: hits that sound together move together, led by the one that is heard as the beat."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from arkund.core.timing.measure import Deviation

TOGETHER_S = 0.035  # hits this near to the first belong to one stroke
CLOSE_S = 0.012  # and what follows this soon is never cut off
LEADERS = ("snare", "kick", "tom1", "tom2", "tom3", "tom4", "floor", "crash", "ride", "hihat")
LEADS_FROM = 0.7  # sureness
CYMBALS = ("crash", "ride", "hihat")


@dataclass(frozen=True, slots=True)
class Stroke:
    """What is struck at one moment."""

    hits: tuple[Deviation, ...]  # by time

    @property
    def first_s(self) -> float:
        """Return when it begins."""
        return self.hits[0].time_s

    @property
    def last_s(self) -> float:
        """Return when its last hit begins."""
        return self.hits[-1].time_s

    @property
    def lead(self) -> Deviation:
        """Return the hit that is heard as the beat: snare before kick before toms before cymbals, of one drum the loudest; one that the finder is
        unsure of leads only where all are.
        """
        return min(self.hits, key=_rank)

    def of(self, *pieces: str) -> Deviation | None:
        """Return its strongest hit of some pieces that is no ghost."""
        mine = [d for d in self.hits if d.piece in pieces and not d.ghost]
        return max(mine, key=lambda d: d.level_db, default=None)


def _rank(d: Deviation) -> tuple:
    return d.sure < LEADS_FROM, d.ghost, LEADERS.index(d.piece) if d.piece in LEADERS else len(LEADERS), -d.level_db


def strokes(rows: Sequence[Deviation]) -> list[Stroke]:
    """Return the strokes of hits that are sorted by time."""
    groups: list[list[Deviation]] = []
    for d in rows:
        if groups and (d.time_s - groups[-1][0].time_s <= TOGETHER_S or d.time_s - groups[-1][-1].time_s <= CLOSE_S):
            groups[-1].append(d)
        else:
            groups.append([d])
    return [Stroke(tuple(group)) for group in groups]


def groove(rows: Sequence[Deviation], first_bar: int, last_bar: int) -> Mapping[float, float]:
    """Return how far each place of a bar is played from the grid in some bars, in ms: the mean of its strokes' leading hits."""
    found: dict[float, list[float]] = {}
    for stroke in strokes(rows):
        lead = stroke.lead
        if first_bar <= lead.bar <= last_bar and not lead.ghost:
            found.setdefault(round(lead.meant, 3), []).append(lead.off_ms)
    return {place: sum(offs) / len(offs) for place, offs in found.items()}
