"""What the one click makes of kits that nobody tuned to: ``make kits SEED=4300``. Some minutes; figures go to docs/kit.md.

Each kit is generated, written as files under names of its own, imported, proposed by a school, and measured over its busiest part. Nothing is taken from
the truth.
"""

import os
import sys
import tempfile
from pathlib import Path

import numpy as np
import soundfile

STYLES = (("straight", 118.0, 14), ("busy", 102.0, 14), ("slow", 72.0, 10), ("sixeight", 62.0, 12))
STYLES_OF_KITS = ("natural", "punchy", "heavy")
KITS = 20
MET_DB = 0.05


def strokes_of(number: int, foreign: bool):
    """Return whose strokes a kit is made of: the generator's, recorded ones where they are installed, bands of noise; or such as nothing was tuned on."""
    from arkund.core.demo.recording import Library
    from tests.foreign import FOREIGN, ForeignLibrary
    from tests.survey import OtherRecorded
    from tools import recorded

    if foreign:
        return FOREIGN[number % len(FOREIGN)].__name__, FOREIGN[number % len(FOREIGN)]
    kinds = [("generated", Library), ("noise", ForeignLibrary)]
    if recorded.there():
        kinds.insert(1, ("recorded", OtherRecorded))
    return kinds[number % len(kinds)]


def main(seed: int, count: int = KITS, schools: tuple[str, ...] = STYLES_OF_KITS, foreign: bool = False) -> None:
    """Print a row a kit and style, then for each style both halves of its figures raw, now and wanted."""
    os.environ["DJANGO_SETTINGS_MODULE"] = "arkund.studio.settings"
    with tempfile.TemporaryDirectory(prefix="arkund-kits-") as data:
        os.environ["ARKUND_DATA"] = data
        import django

        django.setup()
        from arkund.studio.cli.group import migrate

        migrate()
        told: dict[str, list] = {school: [] for school in schools}
        deeds: dict[str, list[int]] = {school: [] for school in schools}
        for number in range(count):
            _kit(seed + number, number, Path(data), told, deeds, foreign)
        for school, rows in told.items():
            _table(school, rows, deeds[school])


def _table(school: str, rows: list, deeds: list[int]) -> None:
    """Print a school's figures, both halves: median, least and most of raw and now, what is wanted, how many are met, and how many are further off than raw."""
    from arkund.core.card.cost import COSTS
    from arkund.core.card.targets import GAINS

    print(f"\n**{school}**: deeds a kit {np.median(deeds):.0f} ({min(deeds)} to {max(deeds)})")
    for name, half in (("figures within target", GAINS), ("limits of what it costs held", COSTS)):
        keys = {row.figure.key for row in half}
        mine = [row for row in rows if row.figure.key in keys]
        met = sum(row.off <= MET_DB for row in mine)
        print(f"\n{met} of {len(mine)} {name}, {100 * met / max(len(mine), 1):.1f} %\n")
        print("| figure | raw | now | wanted | met | further off than raw |\n|---|---|---|---|---|---|")
        for wanted in half:
            _row(wanted, school, [row for row in mine if row.figure == wanted.figure])


def _row(wanted, school: str, mine: list) -> None:
    if not mine:
        return
    spread = [_spread([v for v in each if v is not None]) for each in zip(*map(_both, mine), strict=True)]
    low, high = wanted.ranges[school]
    within, worse = sum(row.off <= MET_DB for row in mine), sum(_worse(row) for row in mine)
    words = wanted.figure.words + (", change" if wanted.figure.against == "change" else "")
    print(f"| {words} | {spread[0]} | {spread[1]} | {low:g} to {high:g} | {within}/{len(mine)} | {worse or ''} |")


def _both(row) -> tuple[float | None, float | None]:
    """Return what the target of a figure is about, of the raw kit and now; a change is none of the raw kit."""
    return (0.0 if row.figure.against == "change" else row.raw), row.value


def _worse(row) -> bool:
    from arkund.core.card.targets import WORDS, further_by

    key = row.figure.key
    if key not in WORDS:  # a cost: the raw kit has lost nothing
        return False
    return row.off > MET_DB and further_by(key, {key: row.now}, {key: row.raw}, row.target) > MET_DB


def _spread(values: list[float]) -> str:
    return f"{np.median(values):.1f} ({min(values):.1f} to {max(values):.1f})" if values else "–"


def _kit(seed: int, number: int, data: Path, told: dict[str, list], deeds: dict[str, list[int]], foreign: bool) -> None:
    from arkund.studio.models import Session
    from arkund.studio.services import carding, proposing
    from arkund.studio.services.importing import import_folder
    from arkund.studio.services.measuring import Measure
    from tests.kits import small_kit
    from tests.studio.doing import apply

    rng = np.random.default_rng(seed)
    style, bpm, bars = STYLES[number % len(STYLES)]
    name, library = strokes_of(number, foreign)
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
    for school, known in told.items():
        session = import_folder(folder)
        apply(session.pk, {"school": school}, step="load", title=school)
        deeds[school].append(len(proposing.propose_all(session.pk).moves))
        measure = Measure(Session.objects.get(pk=session.pk))
        rows = carding.card(measure, school) + carding.lost(measure, school)
        known += [row for row in rows if row.value is not None]
        off = [
            f"{row.figure.key} {row.value:.1f} (off {row.off:.1f}{', further than raw' if _worse(row) else ''})"
            for row in rows
            if row.off > MET_DB
        ]
        print(f"| {seed} | {style} | {name} | {school} | {', '.join(off) or 'all'} |", flush=True)


if __name__ == "__main__":
    styles = tuple(each for each in sys.argv[3:] if each != "foreign") or STYLES_OF_KITS
    main(int(sys.argv[1]), int(sys.argv[2]) if sys.argv[2:] else KITS, styles, "foreign" in sys.argv)
