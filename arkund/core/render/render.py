"""What is heard: ``render(plan, recordings, span)``, a pure function with a cache beside it."""

import functools
from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from arkund.core.beside import shared
from arkund.core.dsp.bank import bank_of, filter_bank, interleaved
from arkund.core.errors import CancelledError, SettingsError
from arkund.core.plan.plan import Plan
from arkund.core.render import graph
from arkund.core.render.cache import SpanCache
from arkund.core.render.keys import Keys
from arkund.core.render.lanes import Lanes
from arkund.core.render.source import Recordings, Sources
from arkund.core.render.sums import alike, empty_sum, place
from arkund.core.render.timeline import Timeline
from arkund.core.render.windows import Place, Window, rounded, windows
from arkund.core.rig import places, rows
from arkund.core.rig.hearing import ALL, Listening
from arkund.core.takes.process import assembled


def render(
    plan: Plan,
    recordings: Recordings,
    span: Window,
    output: str = graph.KIT,
    cache: SpanCache | None = None,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] = lambda: False,
    within: Window | None = None,
    listening: Listening = ALL,
) -> np.ndarray:
    """Return a span of one output of a Plan.

    Any span equals the same span of the whole song within -90 dBFS: each strip is rendered from as far before the span as it needs
    to settle.

    Parameters
    ----------
    plan, recordings : what is to be done, to what
    span : first sample and the one after the last
    output : ``kit``, ``mix`` (before the kit's tools), ``group:ID``, ``path:ID`` (at their level), ``drum:PIECE``, ``strip:MIC``, ``alone:MIC``
    cache, executor : where given, spans are kept and independent strips run side by side
    within : a span around this one that will be wanted next: mics are rendered for it, sums only for this one
    listening : what is soloed and muted by somebody who listens

    Returns
    -------
    float32 [shape=(samples, 2)], full scale = 1; ``strip:MIC`` is mono [shape=(samples,)]

    Raises
    ------
    SettingsError : unknown output, a span that is not within
    CancelledError : ``cancelled`` became true between two pieces
    """
    if within and not within[0] <= span[0] <= span[1] <= within[1]:
        raise SettingsError(f"span: {span[0]} to {span[1]} does not lie within {within[0]} to {within[1]}.")
    recordings = assembled(plan, recordings)
    rig = graph.build(plan, recordings, output, listening)
    where = windows(rig, span, recordings.sample_rate_hz, within)
    # Nothing that renders may refer to what holds it: in a circle, all that it rendered would stay until the collector comes by.
    work = _Work(rig, _lanes(plan, recordings, rig, where, cache, functools.partial(_check, cancelled)), executor)
    if output.startswith("strip:"):
        return work.mic(plan.mic(output[6:]).id, span)
    return work.output(output, span)


def row_of(
    plan: Plan,
    recordings: Recordings,
    strip: str,
    span: Window,
    cache: SpanCache | None = None,
    executor: Executor | None = None,
) -> list[np.ndarray]:
    """Return a span of a strip before any tool and after each that is on, float32 [each shape=(channels, samples)]; nothing where nothing of it is heard.

    strip : as in ``rig.places``
    """
    recordings = assembled(plan, recordings)
    rig, rate = graph.build(plan, recordings), recordings.sample_rate_hz
    mine = rig.strips[strip]
    if not (mine.mic or mine.feeds):
        return []
    lanes = _lanes(plan, recordings, rig, windows(rig, span, rate), cache, lambda: None)
    lanes.watched = strip
    _Work(rig, lanes, executor).make(strip)
    return lanes.row_of(strip, span)


def _lanes(
    plan: Plan,
    recordings: Recordings,
    rig: graph.Rig,
    where: dict[str, Place],
    cache: SpanCache | None,
    check: Callable[[], None],
) -> Lanes:
    sources, rate = Sources(plan, recordings), recordings.sample_rate_hz
    return Lanes(rig, where, sources, Keys(plan, sources, rate), cache or SpanCache(), check, rate)


def _check(cancelled: Callable[[], bool]) -> None:
    if cancelled():
        raise CancelledError("The render was cancelled.")


@dataclass(slots=True)
class _Sum:
    """A sum that is being made: what it is of, over which window, and whether anything was added yet."""

    feeds: graph.Feeds
    window: Window
    audio: np.ndarray
    begun: bool = False


class _Work:
    """One rendering: what is kept is taken, what is not is made of what it needs, generation by generation.

    Every generation is added to all sums that wait for it before the next one is rendered, so that sums of the same strips read them together.
    """

    def __init__(self, rig: graph.Rig, lanes: Lanes, executor: Executor | None) -> None:
        self.rig, self.lanes, self.executor = rig, lanes, executor

    def mic(self, mic_id: str, span: Window) -> np.ndarray:
        """Return a mic's strip [shape=(samples,)]."""
        name = f"mic:{mic_id}"
        self._make([name], {})
        return np.concatenate([rows[0] for _, rows in self.lanes.over([name], span)])

    def output(self, name: str, span: Window) -> np.ndarray:
        """Return an output [shape=(samples, 2)]."""
        feeds = self.rig.outputs[name]
        where = self.lanes.places
        depends = graph.hashed([where[feed.strip].depends[-1] for feed in feeds if feed.strip in where])
        return self.lanes.kept(f"{self.rig.key_of(feeds)}@{depends}", span, lambda: self._of(feeds, span))

    def make(self, name: str) -> None:
        """Render a strip and all that it needs."""
        self._make([name], {})

    def _of(self, feeds: graph.Feeds, span: Window) -> np.ndarray:
        sums = {"": _Sum(feeds, span, empty_sum(span[1] - span[0], len(feeds)))}
        self._make([feed.strip for feed in feeds], sums)
        return interleaved(sums[""].audio)

    def _make(self, names: list[str], sums: dict[str, _Sum]) -> None:
        """Render some strips and all that they need and nobody kept, and the sums that are asked for with those that come into strips."""
        self._ask(names, sums)
        for banks in self.rig.generations:
            mine = [name for bank in banks for name in bank if name in self.lanes.asked]
            for name in mine:
                if name in sums:
                    self.lanes.take_in(name, sums.pop(name).audio)
            self.lanes.render(mine, self.executor)
            self._add(set(mine), list(sums.values()))

    def _ask(self, names: list[str], sums: dict[str, _Sum]) -> None:
        for name in names:
            if name in self.lanes.asked:
                continue
            needed, strip = self.lanes.ask(name), self.rig.strips[name]
            if needed and not strip.mic:
                window = self.lanes.places[name].input
                sums[name] = _Sum(strip.feeds, window, empty_sum(window[1] - window[0], len(strip.feeds)))
                self._ask([feed.strip for feed in strip.feeds], sums)
            self._ask(self.lanes.groups_heard_by(name), sums)

    def _add(self, ready: set[str], sums: list[_Sum]) -> None:
        """Add strips to the sums that are of them."""
        waiting = [each for each in sums if any(feed.strip in ready for feed in each.feeds)]
        work = [
            piece
            for some in alike([each.feeds for each in waiting])
            for piece in self._pieces(ready, [waiting[k] for k in some])
        ]
        shared(lambda piece: piece(), work, self.executor)
        for each in waiting:
            each.begun = True

    def _pieces(self, ready: set[str], sums: list[_Sum]) -> Iterator[Callable[[], None]]:
        """Yield what adds strips to sums that read them together, piece by piece."""
        self.lanes.check()
        names = [
            name
            for name in self.rig.strips
            if name in ready and any(feed.strip == name for each in sums for feed in each.feeds)
        ]
        hull = min(each.window[0] for each in sums), max(each.window[1] for each in sums)
        edges, timeline = [edge for each in sums for edge in each.window], Timeline()
        if any(feed.parts for each in sums for feed in each.feeds):
            timeline = self.rig.timeline
        for start, sides in self.lanes.over(names, hull, [*edges, *timeline.edges()]):
            part, into = timeline.at(start)
            gains = [self.lanes.gains(names, each.feeds, part) for each in sums]
            if into is not None:
                comes = timeline.rising(start, start + sides[0].size, into)
                sides = [row * (1 - comes) for row in sides] + [row * comes for row in sides]
                gains = [
                    mine + self.lanes.gains(names, each.feeds, into) for mine, each in zip(gains, sums, strict=True)
                ]
            late = [each.window[0] - start for each in sums]
            anew = [not each.begun for each in sums]
            yield functools.partial(place, sides, gains, [each.audio for each in sums], late, anew)


def key_listen(plan: Plan, recordings: Recordings, strip: str, tool_id: str, span: Window) -> np.ndarray:
    """Return what a tool's detector listens to, float32 [shape=(samples, 2)]: its key, or the strip before it, through the key's filters.

    strip : as in ``rig.places``. Raises SettingsError where there is no such strip, or no tool of the id that has a detector.
    """
    mine, rate = places.named(plan, strip), recordings.sample_rate_hz
    at = rows.place_of(mine.strip.tools, tool_id)
    tool = mine.strip.tools[at]
    if tool.listens_to is None:
        raise SettingsError(f"key: {tool_id} of {mine.words} has no detector.")
    before = rounded(tool.reach(rate).before, rate)
    lead = (span[0] - before, span[1])
    if tool.listens_to.startswith("group:"):
        heard = render(plan, recordings, lead, tool.listens_to)
    elif tool.listens_to:
        heard = Keys(plan, Sources(plan, assembled(plan, recordings)), rate).read(tool.key, *lead)
    else:
        bare = places.with_strip(plan, mine.name, tools=mine.strip.tools[:at])
        heard = render(bare, recordings, lead, mine.output)
    sides = [heard, heard] if heard.ndim == 1 else list(heard.T)
    return filter_bank(bank_of(sides), [tool.detector(rate)] * 2)[before:, :2]
