"""What the one click makes of kits that nobody tuned to: ``make kits SEED=4300``. Some minutes; figures go to docs/kit.md.

Each kit is generated, written as files under names of its own, imported, proposed by a school, and measured over its busiest part. Nothing is taken from
the truth.
"""

import os
import sys
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np
import soundfile

STYLES = (("straight", 118.0, 14), ("busy", 102.0, 14), ("slow", 72.0, 10), ("sixeight", 62.0, 12))
KITS = 20
FIGURE_WIDTH = 7


def strokes_of(number: int):
    """Return whose strokes a kit is made of: the generator's, recorded ones where they are installed, bands of noise."""
    from arkund.core.demo.recording import Library
    from tests.foreign import ForeignLibrary
    from tests.survey import OtherRecorded
    from tools import recorded

    kinds = [("generated", Library), ("noise", ForeignLibrary)]
    if recorded.there():
        kinds.insert(1, ("recorded", OtherRecorded))
    return kinds[number % len(kinds)]


def main(seed: int, count: int = KITS, schools: tuple[str, ...] = ("natural", "punchy", "heavy")) -> None:
    """Print a row a kit and school, then the share of the figures that are met, by figure."""
    os.environ["DJANGO_SETTINGS_MODULE"] = "arkund.studio.settings"
    with tempfile.TemporaryDirectory(prefix="arkund-kits-") as data:
        os.environ["ARKUND_DATA"] = data
        import django

        django.setup()
        from arkund.studio.cli.group import migrate

        migrate()
        met: dict[str, Counter] = {school: Counter() for school in schools}
        told: dict[str, Counter] = {school: Counter() for school in schools}
        for number in range(count):
            _kit(seed + number, number, Path(data), schools, met, told)
        for school in schools:
            both = sum(met[school].values()), sum(told[school].values())
            print(f"{school}: {both[0]} of {both[1]} figures within target, {100 * both[0] / max(both[1], 1):.1f} %")
            print("  " + ", ".join(f"{key} {met[school][key]}/{told[school][key]}" for key in told[school]))


def _kit(seed: int, number: int, data: Path, schools: tuple[str, ...], met: dict, told: dict) -> None:
    from arkund.studio.models import Session
    from arkund.studio.services import carding, moves, proposing
    from arkund.studio.services.importing import import_folder
    from arkund.studio.services.measuring import Measure
    from tests.kits import small_kit

    rng = np.random.default_rng(seed)
    style, bpm, bars = STYLES[number % len(STYLES)]
    name, library = strokes_of(number)
    kit = small_kit(
        seed=seed,
        style=style,
        bpm=bpm * rng.uniform(0.95, 1.05),
        bars=bars,
        hard=bool(number % 3 == 2),
        strokes_of=library,
    )
    folder = data / "in" / f"kit {seed}"
    folder.mkdir(parents=True)
    for mic, audio in kit.audio.items():
        soundfile.write(folder / f"{mic}.wav", audio, kit.sample_rate_hz, subtype="PCM_24")
    for school in schools:
        session = import_folder(folder)
        moves.apply(session.pk, {"school": school}, step="load", title=school)
        proposing.propose_all(session.pk)
        rows = carding.card(Measure(Session.objects.get(pk=session.pk)), school)
        off = []
        for row in rows:
            if row.value is None:
                continue
            told[school][row.figure.key] += 1
            met[school][row.figure.key] += row.off <= 0.05
            if row.off > 0.05:
                off.append(f"{row.figure.key} {row.value:.1f} (off {row.off:.1f})")
        print(f"{seed} {style:<9} {name:<9} {school:<8} {'all' if not off else ', '.join(off)}", flush=True)


if __name__ == "__main__":
    main(int(sys.argv[1]), *(int(each) for each in sys.argv[2:3]), *([tuple(sys.argv[3:])] if sys.argv[3:] else []))
