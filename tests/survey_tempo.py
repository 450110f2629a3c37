"""A survey of meter and tempo on found hits: ``make survey-tempo SEED=900``. Some minutes; figures go to docs/timing.md.

Kits of all meters, played around a click that wanders off by 10 ms (rms), and without one. What is found is compared with the click: after a full quantise
strokes lie on the found bar lines, so these are held against those of the click.
"""

import sys

import numpy as np

from arkund.core.demo.score import lines_s
from arkund.core.hits.measure import find_hits
from arkund.core.hits.resolve import resolve
from arkund.core.hits.settings import HitSettings
from arkund.core.timing.bars import bars_of
from arkund.core.timing.meter import estimate_meter
from arkund.core.timing.tempo import estimate_map
from tests.kits import SmallKit, small_kit

STYLES = {
    "straight": ("4/4", 114.6),
    "busy": ("4/4", 96.0),
    "slow": ("4/4", 71.5),
    "sixeight": ("6/8", 62.0),
    "three": ("3/4", 132.0),
}
BARS = {"slow": 40, "three": 96}
KEPT = {"KD in", "SN top", "HH", "FT", "T1", "OH L", "OH R"}


def played(seed: int, style: str, bpm: float, **how) -> SmallKit:
    """Generate a kit of two minutes and more; mics that tell nothing of time are left out."""
    drop = {m.name for m in small_kit(seed=1, style="straight", bpm=120.0, bars=1).kit.mics} - KEPT
    return small_kit(seed=seed, style=style, bpm=bpm, bars=BARS.get(style, 64), drop=drop, play_with=how)


def found(kit: SmallKit) -> dict:
    rows = find_hits([kit.readers[m.name] for m in kit.kit.mics], kit.channels, kit.sample_rate_hz, HitSettings())
    return resolve({p: [[h.time_s, h.level_db, h.sure] for h in mine] for p, mine in rows.items()}, ())


def survey(seed: int) -> None:
    """Print what was found for every kit, and over all."""
    meters, tempos, off, maps = [], [], [], []
    for number, (style, (meter, bpm)) in enumerate(STYLES.items()):
        for kind, how in (("click", {"wander_ms": 10.0}), ("no click", {"loose_percent": 0.2})):
            kit = played(seed + number, style, bpm + (seed + number) % 3, **how)
            hits = found(kit)
            told = estimate_meter(hits)
            near = told.bpm if told.name != "4/4" else None
            guess = estimate_map(hits, told.beats_per_bar, told.beat_unit, near)
            bars, true = bars_of(guess.tempo), lines_s(kit.playing)
            lines = np.array([bars.start_s(k) for k in range(-2, 2 * true.size)])
            away = np.array([np.min(np.abs(lines - at)) for at in true]) * 1000
            meters.append(told.name == meter)
            if kind == "click":
                tempos.append(abs(guess.tempo.bpm - kit.playing.bpm))
                off += away.tolist()
            else:
                maps += away.tolist()
            print(f"{style:<9} {kind:<8} {told.words} {guess.words}", flush=True)
    print(f"meter right: {sum(meters)} of {len(meters)}")
    print(
        f"around a click: tempo off by at most {max(tempos):.3f} BPM; bar lines: median {np.median(off):.2f} ms, 95 % {np.quantile(off, 0.95):.2f} ms"
    )
    print(f"without a click: bar lines: median {np.median(maps):.2f} ms, 95 % {np.quantile(maps, 0.95):.2f} ms")


if __name__ == "__main__":
    survey(int(sys.argv[1]) if len(sys.argv) > 1 else 900)
