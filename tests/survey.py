"""A survey of hit finding over styles, rates and hard cases: ``make survey SEED=300``. Takes some minutes; figures go to docs/hits.md."""

import sys

import numpy as np

from arkund.core.demo.recording import Library
from arkund.core.hits.measure import find_hits
from arkund.core.hits.settings import HitSettings
from tests.foreign import ForeignLibrary
from tests.kits import NOTHING, Score, compare, small_kit
from tools import recorded
from tools.makings import Recorded

SHELLS = ("kick", "snare", "tom1", "tom2", "floor")
KITS = (
    ("straight", 120.0, {}),
    ("busy", 100.0, {"play_with": {"flam_share": 0.25}}),
    ("slow", 70.0, {}),
    ("sixeight", 60.0, {}),
    ("straight", 140.0, {"hard": True, "hum_dbfs": -60.0, "dc": 0.01, "drop": ("Ride", "Rm mono", "Talkback")}),
    (
        "busy",
        112.0,
        {"hard": True, "bleed_db": 6.0, "rate": 44_100, "drop": ("Ride",), "play_with": {"flam_share": 0.3}},
    ),
    ("slow", 66.0, {"hard": True, "drop": ("Ride",), "play_with": {"cymbal": "ride"}}),
    ("sixeight", 72.0, {"hard": True, "rate": 96_000, "sympathy_db": -22.0}),
)


class OtherRecorded(Recorded):
    """Recorded strokes that the judge was not taught on, as they are but for softer ones being darker."""

    table = "survey"
    tuned = (0.95, 1.05)
    dulls = False


def survey(seed: int, strokes_of: type) -> None:
    """Print F at +-5 ms by kit and over all, ghosts found, and timing errors."""
    print(f"-- seed {seed}, strokes of {strokes_of.__name__}")
    shells = close = NOTHING
    pieces: dict[str, Score] = {}
    styles: dict[str, Score] = {}
    ghosts = [0, 0]
    for number, (style, bpm, more) in enumerate(KITS):
        kit = small_kit(
            seed=seed + number,
            style=style,
            bpm=bpm + seed % 7,
            bars=6 if style == "slow" else 10,
            strokes_of=strokes_of,
            **more,
        )
        readers = [kit.readers[m.name] for m in kit.kit.mics]
        found = find_hits(readers, kit.channels, kit.sample_rate_hz, HitSettings())
        mine = {p: compare([h.time_s for h in kit.truth.get(p, [])], [h.time_s for h in found[p]]) for p in found}
        part = sum((mine[p] for p in mine if p in SHELLS), NOTHING)
        whole = sum(mine.values(), NOTHING)
        snares = sorted(kit.truth.get("snare", []), key=lambda h: h.time_s)
        missed = set(mine["snare"].missed)
        ghosts[0] += sum(h.ghost and i not in missed for i, h in enumerate(snares))
        ghosts[1] += sum(h.ghost for h in snares)
        shells, close = shells + part, close + whole
        styles[style] = styles.get(style, NOTHING) + whole
        for piece, score in mine.items():
            pieces[piece] = pieces.get(piece, NOTHING) + score
        hard = "hard" if more.get("hard") else "plain"
        print(f"{style:<9} {hard:<6} kick, snare, toms {part.f:.3f}   all close {whole.f:.3f}", flush=True)
    errors = np.abs(shells.errors_s) * 1000
    print(f"all: kick, snare, toms {shells.f:.3f}, all close {close.f:.3f}, ghosts {ghosts[0]} of {ghosts[1]}")
    print("by style, all close: " + ", ".join(f"{style} {found.f:.3f}" for style, found in styles.items()))
    print("by piece: " + ", ".join(f"{piece} {found.f:.3f}" for piece, found in sorted(pieces.items())))
    print(f"timing of kick, snare, toms: median {np.median(errors):.2f} ms, 95 % {np.quantile(errors, 0.95):.2f} ms")


if __name__ == "__main__":
    for library in (Library, *([OtherRecorded] if recorded.there() else []), ForeignLibrary):
        survey(int(sys.argv[1]) if len(sys.argv) > 1 else 300, library)
