"""The judge of candidates: sets of decision trees, grown on generated kits of every kind (``tools/teach_judge.py``).

The first set weighs what the mics heard; those after it also what is left of it once the strokes that seem likely so far are accounted for, and what
these lead one to expect. Each knows better than the one before what is likely.
"""

from functools import cache, partial
from importlib.resources import files

import numpy as np

from arkund.core.beside import at_once
from arkund.core.hits import evidence, habits
from arkund.core.trees.trees import Trees

STAGES = ("first", "second", "third")
WORTH_ASKING = 0.008  # below this sureness at first hearing a candidate is not asked again
AT_A_GLANCE = 100  # trees of the first set
HOPELESS = -6.0  # log-odds by them, below which a candidate needs no more: the rest lower it further
LIKELY = 0.1  # sureness from which a candidate may explain others
APART_MS = 12  # of two candidates of a piece that are nearer, the less likely explains nothing


@cache
def trees() -> tuple[Trees, ...]:
    """Return the sets that ship with the application."""
    with (files("arkund.core.hits") / "judge.npz").open("rb") as file, np.load(file) as table:
        return tuple(Trees(*(table[f"{stage}_{name}"] for name in Trees.__dataclass_fields__)) for stage in STAGES)


def judge(s: evidence.Scene) -> np.ndarray:
    """Return how sure it is that each candidate is a stroke of its piece, 0..1."""
    first, *later = trees()
    heard = evidence.heard(s)
    sure = first.sure_or_hopeless(heard, AT_A_GLANCE, HOPELESS)
    asked = np.flatnonzero(sure >= WORTH_ASKING)
    for each in later:
        sure[asked] = each.sure(again(s, heard, sure, asked))
    return sure


def again(s: evidence.Scene, heard: np.ndarray, sure: np.ndarray, asked: np.ndarray) -> np.ndarray:
    """Return what speaks for and against the candidates asked about (by number), now that it is known how likely all are."""
    likely = evidence.apart(s, sure, LIKELY, APART_MS)
    explained, expected = at_once(
        partial(evidence.explained, s, sure, likely, asked),
        partial(habits.expected, s.frames, s.pieces, sure, likely, asked, len(s.names)),
    )
    return np.hstack([heard[asked], explained, expected])
