"""Where the playing changes: sections of a song proposed from its hits."""

from collections.abc import Mapping, Sequence

import numpy as np

from arkund.core.findings import Finding
from arkund.core.plan.plan import Section
from arkund.core.timing.bars import Bars

AROUND = 4  # bars to each side that are compared, and the shortest section
CLEAR = 0.55  # how different the two sides must be
SAME = 0.5  # sections nearer than this are called by the same letter
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


def features(hits: Mapping[str, Sequence], bars: Bars, count: int) -> np.ndarray:
    """Return what each bar is played like: for each piece how many strokes (root) and how loud they are [shape=(bars, 2 * pieces)]."""
    out = []
    for _piece, mine in sorted(hits.items()):
        strong = [h for h in mine if not h.ghost]
        if not strong:
            continue
        number = bars.bar_of(np.array([h.time_s for h in strong]))
        level = np.array([h.level_db for h in strong])
        inside = (number >= 0) & (number < count)
        strokes = np.bincount(number[inside], minlength=count)
        loud = np.bincount(number[inside], weights=level[inside] - np.median(level), minlength=count)
        out += [np.sqrt(strokes), np.where(strokes > 0, loud / np.maximum(strokes, 1), 0.0) / 6.0]
    return np.array(out).T if out else np.zeros((count, 0))


def sections(hits: Mapping[str, Sequence], bars: Bars) -> list[Section]:
    """Return sections from changes in the playing; the same letter means that they are played alike. One section or none says nothing.

    The mean of four bars is compared with that of the four before (a checkerboard novelty; J. Foote, Automatic audio segmentation using a
    measure of audio novelty, ICME 2000); fills, which return every few bars, cancel out.
    """
    times = [h.time_s for mine in hits.values() for h in mine]
    count = int(bars.bar_of(np.array([max(times)]))[0]) + 1 if times else 0
    if count < 2 * AROUND:
        return []
    rows = features(hits, bars, count)
    new = np.zeros(count + 1)
    for bar in range(AROUND, count - AROUND + 1):
        new[bar] = np.linalg.norm(
            np.median(rows[bar : bar + AROUND], axis=0) - np.median(rows[bar - AROUND : bar], axis=0)
        )
    begins = [0]
    for bar in np.argsort(-new):
        if new[bar] < CLEAR:
            break
        if all(abs(bar - other) >= AROUND for other in begins) and count - bar >= AROUND:
            begins.append(int(bar))
    begins = sorted(begins)
    if len(begins) < 2:
        return []
    return [Section(name=name, bar=bar) for name, bar in zip(_names(rows, begins), begins, strict=True)]


def _names(rows: np.ndarray, begins: Sequence[int]) -> list[str]:
    """Return a letter for each section, with a number where it comes again."""
    known: list[np.ndarray] = []
    out, used = [], {}
    for first, last in zip(begins, [*begins[1:], len(rows)], strict=True):
        mine = np.median(rows[first:last], axis=0)
        away = [float(np.linalg.norm(mine - other)) for other in known]
        which = int(np.argmin(away)) if away and min(away) < SAME else len(known)
        if which == len(known):
            known.append(mine)
        letter = LETTERS[which % len(LETTERS)]
        used[letter] = used.get(letter, 0) + 1
        out.append(f"part {letter}" + (f" {used[letter]}" if used[letter] > 1 else ""))
    return out


def propose(plan, found: Sequence[Section]) -> list[Finding]:
    """Return the sections that the playing tells, where the Plan has none."""
    if plan.sections or not found:
        return []
    named = ", ".join(f"{s.name} from bar {s.bar + 1}" for s in found)
    return [
        Finding(
            "load",
            "load:sections",
            "",
            f"{len(found)} sections by the playing",
            f"{named}. The same letter: played alike (which pieces, how many strokes, how loud). Names can be typed below.",
            {"sections": [s.to_json() for s in found]},
            first_choice=False,
        )
    ]
