"""Where each strip is rendered for a wanted span: by a backward sweep, every strip over what those after it need to settle.

Windows depend on the Plan and the span only, never on what is cached, so that a strip's samples depend on nothing but the request. A window is cut into parts
of equal length, which need not wait for each other: each settles by itself.
"""

from dataclasses import dataclass, replace
from functools import lru_cache
from math import ceil, log2

from arkund.core.dsp.bank import BLOCK
from arkund.core.dsp.reach import NOTHING, Reach
from arkund.core.render.graph import Rig, hashed

LEAST_REACH_S = 0.1
STEPS_PER_DOUBLING = 4  # reaches are rounded up to few sizes, so that cached spans stay useful while a setting moves
MOST_PARTS, SHORTEST_PART_S = 4, 2.0  # a window is cut into so many parts, no shorter than this

Window = tuple[int, int]


def rounded(reach: int, rate: int) -> int:
    """Return a reach rounded up to the next of a geometric row of sizes, of whole blocks; 0 stays 0."""
    if reach <= 0:
        return 0
    steps = max(ceil(STEPS_PER_DOUBLING * log2(reach / (LEAST_REACH_S * rate)) - 1e-9), 0)
    return ceil(LEAST_REACH_S * rate * 2 ** (steps / STEPS_PER_DOUBLING) / BLOCK) * BLOCK


@dataclass(frozen=True, slots=True)
class Place:
    """Where a strip is rendered.

    parts : windows of what it gives, one after the other; leads : samples before a part from which it is rendered, before any tool and after each; after :
    likewise beyond a part; depends : what its samples depend on beside its key, before any tool and after each
    """

    parts: tuple[Window, ...]
    leads: tuple[int, ...]
    after: tuple[int, ...]
    depends: tuple[str, ...]

    @property
    def window(self) -> Window:
        """Return all parts together."""
        return self.parts[0][0], self.parts[-1][1]

    @property
    def input(self) -> Window:
        """Return where it is rendered before any tool, all parts together."""
        return self.stage(0, 0)[0], self.stage(0, len(self.parts) - 1)[1]

    def stage(self, number: int, part: int) -> Window:
        """Return where a part is rendered after so many tools."""
        start, stop = self.parts[part]
        return start - self.leads[number], stop + self.after[number]


def windows(rig: Rig, span: Window, rate: int, within: Window | None = None) -> dict[str, Place]:
    """Return the places of all strips for a span of any output, but for those that are not heard there. within : a span around this one, for which the mics
    are rendered"""
    out = _swept(rig, span, rate)
    if within:
        whole = _swept(rig, within, rate)
        mics = {name: place for name, place in whole.items() if rig.strips[name].mic}
        out = {name: mics.get(name, place) for name, place in out.items()}
    return _with_origins(rig, out)


def _swept(rig: Rig, span: Window, rate: int) -> dict[str, Place]:
    after: dict[str, list[str]] = {name: [] for name in rig.strips}
    for name, feeds in rig.wired.items():
        for feed in feeds:
            after[feed].append(name)
    out: dict[str, Place] = {}
    wanted: dict[str, Window] = {}  # of what comes into a strip
    for name in reversed(rig.strips):
        strip, windows = rig.strips[name], [span, *(wanted[each] for each in after[name] if each in wanted)]
        if strip.heard is not None:  # where its row holds, and nowhere else
            windows = [both for mine in windows for where in strip.heard if (both := _common(mine, where))]
            if not windows:
                continue
        start, stop = min(window[0] for window in windows), max(window[1] for window in windows)
        leads, beyond = _leads(strip.reaches, rate)
        out[name] = Place(_parts((start, stop), leads[0], rate), leads, beyond, ())
        # With the tools that are off, so that switching one moves no window before it.
        lead = max(rounded(strip.row.before, rate), leads[0])
        wanted[name] = start - lead, stop + max(strip.row.after, beyond[0])
    return out


def _common(one: Window, other: Window) -> Window | None:
    start, stop = max(one[0], other[0]), min(one[1], other[1])
    return (start, stop) if start < stop else None


def _with_origins(rig: Rig, places: dict[str, Place]) -> dict[str, Place]:
    """Return places with what their samples depend on: from how far before all down to there was rendered."""
    out: dict[str, Place] = {}
    for name, place in ((name, places[name]) for name in rig.strips if name in places):
        strip = rig.strips[name]
        before = [feed.strip for feed in strip.feeds] + [of for of in strip.keyed_by if of.startswith("group:")]
        begins = [[each, out[each].depends[-1]] for each in before if each in out]
        base = hashed([begins, place.parts[0], len(place.parts)]) if begins else ""
        depends = tuple(f"{base}/{','.join(map(str, place.leads[: k + 1]))}" for k in range(len(place.leads)))
        out[name] = replace(place, depends=depends)
    return out


@lru_cache(maxsize=2048)
def _leads(reaches: tuple[Reach, ...], rate: int) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Return how far before and beyond a part a strip is rendered before any tool and after each."""
    behind, leads, after = NOTHING, [0], [0]
    for reach in reversed(reaches):
        behind = reach + behind
        leads.append(max(rounded(behind.before, rate), leads[-1]))
        after.append(behind.after)
    return tuple(reversed(leads)), tuple(reversed(after))


def _parts(window: Window, lead: int, rate: int) -> tuple[Window, ...]:
    """Return a window in parts of equal length, of which the last may be a little shorter; no part is shorter than what it needs to settle."""
    start, stop = window
    count = max(min(int((stop - start) / max(SHORTEST_PART_S * rate, lead)), MOST_PARTS), 1)
    each = -(-(stop - start) // count)
    return tuple((start + k * each, min(start + (k + 1) * each, stop)) for k in range(count))
