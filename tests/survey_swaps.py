"""A survey of couples of mics under each other's names, on kits of foreign strokes with the hits that are found: ``make survey-swaps SEED=1000 KITS=60``.

Each kit is looked at as it is rightly named, where nothing may be doubted, and then with each couple exchanged. Figures go to docs/hits.md.
"""

import sys
from collections import Counter
from concurrent.futures import ProcessPoolExecutor

from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import resolve
from arkund.core.hits.settings import HitSettings, channels_of
from arkund.core.load.couples import later
from arkund.core.load.measure import heard
from arkund.core.load.propose import exchange, swapped
from arkund.core.plan import change
from arkund.core.tone.measure import starts_of
from arkund.core.tone.peaks import fundamental_hz
from tests.foreign import FOREIGN
from tests.kits import small_kit
from tests.survey import KITS

COUPLES = {
    "kick in/out": ("KD in", "KD out"),
    "snare top/bottom": ("SN top", "Snr btm"),
    "hi-hat/ride": ("HH", "Ride"),
    "tom 1/tom 2": ("T1", "T2"),
    "tom 1/floor tom": ("T1", "FT"),
    "tom 2/floor tom": ("T2", "FT"),
    "overheads L/R": ("OH L", "OH R"),
}
SIDES = {"OH L": "L", "OH R": "R", "Rm L": "L", "Rm R": "R"}


def doubted(plan, kit) -> list[set[str]]:
    """Return the couples that are said to be swapped, by their ids, with the hits that are found under these names."""
    rate = kit.sample_rate_hz
    found = find_hits([kit.readers[mic.id] for mic in plan.mics], channels_of(plan.mics), rate, HitSettings())
    hits = resolve({piece: [[h.time_s, h.level_db, h.sure] for h in mine] for piece, mine in found.items()}, ())
    toms = [mic for mic in plan.mics if mic.role == "close" and hits.get(mic.piece)]
    pitch_hz = {
        mic.id: fundamental_hz(kit.readers[mic.id].read, starts_of(hits, mic.piece, rate), mic.piece, rate) or 0.0
        for mic in toms
    }
    notes = swapped(plan, later(plan, kit, hits), heard(plan, kit, hits), pitch_hz)
    return [{path.split(".")[1] for path in note.changes} for note in notes]


def looked_at(number: int) -> tuple[str, int, dict[str, tuple[bool, int]]]:
    """Return of a kit its source, how many couples are doubted as it is, and of each couple whether it is named when exchanged, and how many others are."""
    library, (style, bpm, more) = FOREIGN[number % len(FOREIGN)], KITS[number // len(FOREIGN) % len(KITS)]
    bars = 6 if style == "slow" else 8
    kit = small_kit(seed=5100 + number, style=style, bpm=bpm + number % 7, bars=bars, strokes_of=library, **more)
    plan = kit.plan.replace(mics=tuple(mic.replace(side=SIDES.get(mic.id, "")) for mic in kit.plan.mics))
    names, out = {mic.id for mic in plan.mics}, {}
    for couple, (a, b) in COUPLES.items():
        if {a, b} <= names:
            other = exchange(plan.mic(a), plan.mic(b))
            said = doubted(change.put(plan, {k: v for k, v in other.items() if not k.endswith("name")}), kit)
            out[couple] = {a, b} in said, sum(each != {a, b} for each in said)
    return library.__name__, len(doubted(plan, kit)), out


def survey(seed: int, kits: int) -> None:
    """Print the tables."""
    with ProcessPoolExecutor(2) as pool:
        rows = list(pool.map(looked_at, range(seed, seed + kits)))
    doubts, seen = Counter(), Counter(source for source, *_ in rows)
    for source, count, _ in rows:
        doubts[source] += bool(count)
    print(
        "rightly named kits of which something is doubted: " + ", ".join(f"{s} {doubts[s]} of {seen[s]}" for s in seen)
    )
    for couple in COUPLES:
        tried = [out[couple] for *_, out in rows if couple in out]
        print(
            f"{couple:<18} {sum(ok for ok, _ in tried):3} of {len(tried):3} named, {sum(n for _, n in tried)} others beside"
        )
    every = [each for *_, out in rows for each in out.values()]
    print(
        f"{'all':<18} {sum(ok for ok, _ in every):3} of {len(every):3} = {sum(ok for ok, _ in every) / len(every):.1%}"
    )


if __name__ == "__main__":
    survey(int(sys.argv[1]) if len(sys.argv) > 1 else 1000, int(sys.argv[2]) if len(sys.argv) > 2 else 60)
