"""Gaps of a steady row are closed where something is heard in them, and only there."""

import numpy as np

from arkund.core.hits.evidence import Scene
from arkund.core.hits.steady_rows import continued

STEP_S = 0.25
ROW = np.arange(1.0, 9.0, STEP_S)


def scene(strokes: dict[str, list[tuple[float, float]]]) -> tuple[Scene, np.ndarray, np.ndarray]:
    """Return a scene of candidates (seconds, sureness) by piece, how sure each is, and which stand so far."""
    names = tuple(strokes)
    rows = sorted((round(1000 * at), sure, names.index(piece)) for piece, mine in strokes.items() for at, sure in mine)
    frames, sure, pieces = (np.array(column) for column in zip(*rows, strict=True))
    nothing = np.zeros(0)
    made = Scene(*[nothing] * 5, names, *[nothing] * 5, frames=frames.astype(np.int64), pieces=pieces.astype(np.int64))
    return made, sure, sure >= 0.4


def added(strokes: dict[str, list[tuple[float, float]]]) -> list[float]:
    """Return the seconds of what is added to a row."""
    s, sure, kept = scene(strokes)
    return (s.frames[continued(s, sure, kept) > sure] / 1000).tolist()


def row(missing: list[int], faint: float | None) -> list[tuple[float, float]]:
    """A steady row in which some strokes are faint, or not heard at all."""
    out = [(at, faint if k in missing else 0.9) for k, at in enumerate(ROW)]
    return [(at, sure) for at, sure in out if sure is not None]


class TestContinued:
    """What a steady row tells about a faint stroke."""

    def test_a_faint_stroke_in_its_place(self):
        """One and two missing strokes return; two in a row as well."""
        assert added({"hihat": row([9, 16, 17], 0.1)}) == [ROW[9], ROW[16], ROW[17]]

    def test_where_nothing_is_heard(self):
        """Nothing is made up."""
        assert added({"hihat": row([9, 16], None)}) == []

    def test_out_of_place(self):
        """A faint stroke beside the place stays out, and so does a bit of bleed in the row itself."""
        late = [(ROW[9] + 0.03, 0.3), (ROW[20] + 0.06, 0.3)]
        assert added({"hihat": sorted(row([9], None) + late)}) == []

    def test_struck_along_with_the_snare(self):
        """Where the hat is heard with most backbeats, a masked one returns; a player who leaves it out on each is left alone."""
        backbeats = list(range(3, len(ROW), 4))
        snare = [(ROW[k], 0.9) for k in backbeats]
        assert added({"hihat": row(backbeats[2:3], 0.1), "snare": snare}) == [ROW[backbeats[2]]]
        assert added({"hihat": row(backbeats, 0.2), "snare": snare}) == []

    def test_only_steady_rows_of_cymbals(self):
        """A free rhythm has no places, and a snare's row is no such row."""
        free = np.cumsum(np.random.default_rng(3).uniform(0.1, 0.7, 24))
        assert added({"hihat": [(at, 0.2 if k % 5 == 2 else 0.9) for k, at in enumerate(free)]}) == []
        assert added({"snare": row([9], 0.2)}) == []
