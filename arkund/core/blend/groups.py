"""First rows of groups: what holds the mics of a drum together, and rooms that answer a back-beat."""

from dataclasses import dataclass

from arkund.core.findings import Finding
from arkund.core.punch.solve import Solved, Wanted
from arkund.core.tools.compressor import Compressor


@dataclass(frozen=True, slots=True)
class FirstRow:
    """How a group's compressor begins, what is wanted of it, and by whose strokes it is judged, by its own where no piece is named."""

    compressor: Compressor
    wanted: Wanted
    piece: str = ""


def _held(ratio: float, attack_ms: float, release_ms: float) -> Compressor:
    return Compressor(on=True, ratio=ratio, attack_ms=attack_ms, release_ms=release_ms, knee_db=6.0)


GLUED = Wanted(reduction_db=2.0, as_loud=True)
FIRST_ROWS = {
    "kick": FirstRow(_held(2.0, 30.0, 120.0), GLUED),
    "snare": FirstRow(_held(2.0, 30.0, 150.0), GLUED),
    "toms": FirstRow(_held(2.0, 30.0, 180.0), GLUED),
    "overheads": FirstRow(_held(2.0, 10.0, 250.0), GLUED, "snare"),
    "rooms": FirstRow(_held(4.0, 5.0, 150.0), Wanted(reduction_db=6.0, as_loud=True), "snare"),
}


def propose(group, solved: Solved) -> Finding | None:
    """Return a group's first row as a Finding; None where what was wanted of it cannot be reached."""
    if solved.missed:
        return None
    ratio = FIRST_ROWS[group.id].compressor.ratio
    title = f"{group.name} held together: {ratio:g}:1, {solved.reached['reduction']:.0f} dB at hits"
    return Finding("blend", f"blend:group:{group.id}", group.id, title, solved.words, solved.values, first_choice=False)
