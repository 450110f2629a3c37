"""A survey of files under each other's names, every pair of every kit in turn: ``make survey-swaps SEED=300``. Some minutes; figures go to docs/hits.md."""

import itertools
import sys

from arkund.core.demo.recording import Library
from arkund.core.load.propose import exchange, swapped
from arkund.core.load.sound import features_of, kind_of, likely
from arkund.core.plan import change
from tests.foreign import ForeignLibrary
from tests.kits import small_kit
from tests.survey import KITS, OtherRecorded
from tools import recorded


def survey(seed: int, strokes_of: type) -> None:
    """Print how many exchanged pairs are named, what else is named then, and what is where nothing was exchanged."""
    pairs = named = beside = false = 0
    for number, (style, bpm, more) in enumerate(KITS):
        bars = 6 if style == "slow" else 10
        kit = small_kit(seed=seed + number, style=style, bpm=bpm + seed % 7, bars=bars, strokes_of=strokes_of, **more)
        plan = kit.plan
        found = likely(features_of([kit.readers[mic.id] for mic in plan.mics], kit.sample_rate_hz))
        likelihoods = {mic.id: mine for mic, mine in zip(plan.mics, found, strict=True) if mine}
        kinds = {mic.id: kind_of(mic.piece, mic.role) for mic in plan.mics if mic.id in likelihoods}
        false += len(_named(plan, likelihoods))
        for a, b in itertools.combinations((mic for mic, kind in kinds.items() if kind), 2):
            if kinds[a] != kinds[b]:
                other = exchange(plan.mic(a), plan.mic(b))
                notes = _named(
                    change.put(plan, {k: v for k, v in other.items() if not k.endswith("name")}), likelihoods
                )
                pairs, named = pairs + 1, named + ({a, b} in notes)
                beside += len(notes) - ({a, b} in notes)
    print(f"seed {seed}, {strokes_of.__name__}: {named} of {pairs} named, {beside} others beside them;", end=" ")
    print(f"{false} in {len(KITS)} kits with right names")


def _named(plan, likelihoods) -> list[set[str]]:
    """Return the pairs that are said to be swapped."""
    notes = swapped(plan, likelihoods, {})
    return [{key.split(".")[1] for key in note.changes} for note in notes if note.key.startswith("load:swap")]


if __name__ == "__main__":
    start = int(sys.argv[1]) if len(sys.argv) > 1 else 300
    for strokes in (Library, *([OtherRecorded] if recorded.there() else []), ForeignLibrary):
        survey(start, strokes)
