"""A whole song rendered from its start to its end, block after block: what is printed.

It follows the same rig as ``render``, which gives the same for any span by itself. Everything keeps its state from block to block, so nothing is rendered
twice; what a tool looks ahead, those before it are ahead.
"""

from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass
from functools import partial
from math import ceil

import numpy as np

from arkund.core.beside import shared
from arkund.core.dsp import _mixing
from arkund.core.dsp.bank import WIDE, fill, fresh, width_for
from arkund.core.errors import CancelledError
from arkund.core.plan.plan import Plan
from arkund.core.render import graph
from arkund.core.render.banks import Bank
from arkund.core.render.graph import KIT, Feeds, Rig
from arkund.core.render.keys import Keys
from arkund.core.render.pipeline import Pipeline, side_by_side
from arkund.core.render.source import Recordings, Sources
from arkund.core.render.timeline import Timeline
from arkund.core.rig.tails import rings_s
from arkund.core.takes.process import assembled

BLOCK = 1 << 16  # samples
SUMMED = 1 << 12  # samples that are added up at a time: what they are and become stays near the processor
LEAD_S = 0.1  # mics that are moved earlier sound before the start
STEMS_PER_BANK = WIDE // 2


@dataclass(frozen=True, slots=True)
class Block:
    """What became ready: each mic's strip in its bank, the stems, and the kit, each float32 [shape=(samples, width)]: see ``Stream.places``."""

    banks: list[np.ndarray]

    @property
    def samples(self) -> int:
        """How many there are."""
        return self.banks[-1].shape[0]


def length_of(plan: Plan, recordings: Recordings) -> int:
    """Return how many samples a print has: the song, and what rings on after it."""
    return recordings.length(plan.take) + ceil(rings_s(plan) * recordings.sample_rate_hz)


class Stream:
    """Renders every mic's strip, every stem and the kit of a Plan, going through the song once.

    length : samples from start to end; stems : what adds up to the mix, as in ``render``: groups, mics of no group, and paths, at their levels
    """

    def __init__(self, plan: Plan, recordings: Recordings) -> None:
        self._plan, self._recordings = plan, assembled(plan, recordings)
        self._rate = recordings.sample_rate_hz
        self.length = length_of(plan, self._recordings)
        sources = Sources(plan, self._recordings)
        keys = Keys(plan, sources, self._rate)
        self._rig = rig = graph.build(plan, self._recordings)
        self.stems = rig.stems
        self._ways: list[_Way] = []
        self._generations: list[list[_Way]] = []
        for banks in rig.generations:
            self._generations.append([_Way(names, rig, self._ways, sources, keys, self._rate) for names in banks])
            self._ways += self._generations[-1]
        for way in reversed(self._ways):
            for other in way.needs:
                other.ahead = max(other.ahead, way.ahead + way.bank.ahead)
        of_stems = [
            [rig.outputs[stem] for stem in self.stems[first : first + STEMS_PER_BANK]]
            for first in range(0, len(self.stems), STEMS_PER_BANK)
        ]
        self._sums = [_Sum(feeds, WIDE, self._ways, rig.timeline) for feeds in of_stems]
        self._sums.append(_Sum([rig.outputs[KIT]], width_for(2), self._ways, rig.timeline))
        self._mics = [way for way in self._ways if way.channels == 1]

    def places(self) -> dict[str, tuple[int, int]]:
        """Return in which bank of a Block and at which lane each output begins; all but the strips of mics have two lanes."""
        out = {}
        for bank, way in enumerate(self._mics):
            out |= {
                f"strip:{name.partition(':')[2]}": (bank, lane)
                for lane, name in enumerate(way.names)
                if self._rig.strips[name].heard is None  # of a strip that differs by scene, what its rows are together
            }
        after = len(self._mics)
        for number, stem in enumerate(self.stems):
            out[stem] = (after + number // STEMS_PER_BANK, 2 * (number % STEMS_PER_BANK))
        return out | {KIT: (after + len(self._sums) - 1, 0)}

    def lanes(self) -> list[tuple[int, int]]:
        """Return how many lanes each bank of a Block uses, and how wide it is."""
        return [(len(way.names), way.bank.width) for way in self._mics] + [
            (each.lanes, each.width) for each in self._sums
        ]

    def blocks(
        self, executor: Executor, cancelled: Callable[[], bool] = lambda: False, size: int = BLOCK
    ) -> Iterator[Block]:
        """Yield the song block by block of so many samples; the next block is rendered while this one is used.

        How long blocks are changes nothing but how long one takes. Raises CancelledError.
        """
        length, lead = self.length, int(LEAD_S * self._rate)
        spans = [(start, min(start + size, length)) for start in range(0, length, size)]
        before = executor.submit(self._step, -lead, 0, executor)
        waiting = executor.submit(self._step, *spans[0], executor, before) if spans else None
        for number in range(len(spans)):
            if cancelled():
                waiting.cancel()
                raise CancelledError("The render was cancelled.")
            block = waiting.result()
            if number + 1 < len(spans):
                waiting = executor.submit(self._step, *spans[number + 1], executor)
            yield block

    def _step(self, start: int, stop: int, executor: Executor, before=None) -> Block:
        """Render the samples from one to another, which follow those of the last step."""
        if before is not None:
            before.result()
        for ways in self._generations:
            shared(lambda piece: piece(), [piece for way in ways for piece in way.taking(start, stop)], executor)
            side_by_side(shared(lambda way: way.pipeline(), ways, executor), executor)
        shared(lambda piece: piece(), [piece for each in self._sums for piece in each.adding(start, stop)], executor)
        return Block([way.audio[: stop - start] for way in self._mics] + [each.audio for each in self._sums])


class _Gains:
    """What lanes of a bank give to a sum: gains [parts of the song, lanes, width]."""

    def __init__(self, way: "_Way", width: int, timeline: Timeline) -> None:
        self.way, self.width, self._timeline = way, width, timeline
        self._gains = np.zeros((len(timeline.changes) + 1, len(way.names) * way.channels, width), np.float32)
        self._changes = False
        self._used: dict[int, tuple[np.ndarray, np.ndarray]] = {}

    def put(self, feed: graph.Feed, lane: int, sides: int) -> None:
        """Take a feed of one of the bank's strips into as many neighbouring lanes as the sum has sides."""
        mine = self.way.names.index(feed.strip) * self.way.channels
        last = mine + self.way.channels - 1  # of a mic both sides are the same lane
        self._changes |= bool(feed.parts)
        for part, gains in enumerate(self._gains):
            left, right = feed.gains(part)
            gains[mine, lane] += np.float32(left)
            if sides == 2:
                gains[last, lane + 1] += np.float32(right)

    def add(self, start: int, out: np.ndarray) -> None:
        """Add to a sum what the bank gave from a sample on."""
        audio = self.way.audio[start - self.way.start :][: out.shape[0]]
        if not self._changes:
            self._mix(audio, 0, out)
            return
        for first, stop, part, into in self._timeline.pieces(start, start + out.shape[0]):
            some, piece = audio[first - start : stop - start], out[first - start : stop - start]
            if into is None:
                self._mix(some, part, piece)
            else:
                comes = self._timeline.rising(first, stop, into)[:, None]
                self._mix(some * (1 - comes), part, piece)
                self._mix(some * comes, into, piece)

    def _mix(self, audio: np.ndarray, part: int, out: np.ndarray) -> None:
        if part not in self._used:  # lanes that give nothing cost nothing
            used = np.flatnonzero(self._gains[part].any(axis=1))
            self._used[part] = used, self._gains[part][used].reshape(-1)
        used, gains = self._used[part]
        if used.size:
            _mixing.BANKS[self.width].mix_down(audio.reshape(-1), audio.shape[1], used, gains, out.reshape(-1))


def _gains_of(several: list[Feeds], width: int, ways: list["_Way"], timeline: Timeline, sides: int = 2) -> list[_Gains]:
    """Return the gains of each bank into several sums of so many lanes each, in the order of the banks."""
    out: dict[int, _Gains] = {}
    for number, feeds in enumerate(several):
        for feed in feeds:
            at = next(k for k, way in enumerate(ways) if feed.strip in way.names)
            out.setdefault(at, _Gains(ways[at], width, timeline)).put(feed, sides * number, sides)
    return [out[at] for at in sorted(out)]


class _Way:
    """A bank's way through the song: what it was given and gives, from ``start`` on.

    ahead : samples by which what it gives must be ahead of what is printed, because those behind it look ahead
    """

    def __init__(
        self, names: tuple[str, ...], rig: Rig, before: list["_Way"], sources: Sources, keys: Keys, rate: int
    ) -> None:
        strips = [rig.strips[name] for name in names]
        self.names, self._sources, self._mics = names, sources, [strip.mic for strip in strips]
        self.channels = strips[0].channels
        self.bank = Bank([strip.tools for strip in strips], self.channels, rate)
        feeds = [] if self._mics[0] else [strip.feeds for strip in strips]
        self.gains = _gains_of(feeds, self.bank.width, before, rig.timeline, self.channels)
        self.keys = [_Key(place, strips, self, before, keys) for place in range(len(self.bank.runs))]
        self.needs = [gains.way for gains in self.gains] + [way for key in self.keys for way in key.needs]
        self.ahead = self.start = self._kept = 0
        self.audio: np.ndarray | None = None

    def taking(self, start: int, stop: int) -> list[Callable[[], None]]:
        """Go on, and return what fills in what comes in: what was done and is still needed is kept in front of it."""
        end, reach = stop + self.ahead + self.bank.ahead, self.ahead + self.bank.ahead
        self._kept = reach if self.audio is not None else 0
        audio = fresh(end - start, self.bank.width)
        audio[: self._kept] = self.audio[self.audio.shape[0] - self._kept :] if self._kept else 0.0
        self.audio, self.start = audio, start
        first, come = start + self._kept, audio[self._kept :]
        if self._mics[0]:
            return [lambda: fill(come, [self._sources.read(mic, first, end) for mic in self._mics])]
        return [
            partial(_add_up, self.gains, first + at, come[at : at + SUMMED]) for at in range(0, come.shape[0], SUMMED)
        ]

    def pipeline(self) -> Pipeline:
        """Return the tools' work on what was taken in."""
        begins = [max(self._kept - behind, 0) for behind in self.bank.behind]
        heard = [key.over(self.start, self.start + self.audio.shape[0], self.bank.width) for key in self.keys]
        return Pipeline(self.bank, self.audio, begins, _go, keys=heard)


class _Key:
    """What the detectors of one tool of a bank hear elsewhere."""

    def __init__(self, place: int, strips: list[graph.Strip], way: _Way, before: list[_Way], keys: Keys) -> None:
        self._keys, self._channels = keys, way.channels
        mine = [
            s.tools[at.index(place)] if place in at else None for s, at in zip(strips, way.bank.places, strict=True)
        ]
        self._lanes = [(k, tool) for k, tool in enumerate(mine) if tool and tool.keyed]
        self._mics = [strip.mic for strip in strips]
        self._groups = {
            tool.listens_to: next(each for each in before if tool.listens_to in each.names)
            for _, tool in self._lanes
            if (tool.listens_to or "").startswith("group:")
        }
        self.needs = list(self._groups.values())

    def over(self, start: int, end: int, width: int) -> np.ndarray | None:
        """Return what is heard from one sample to another, as a bank; None where all hear their own."""
        if not self._lanes:
            return None
        out = np.zeros((end - start, width), np.float32)
        for k, tool in self._lanes:
            lanes = out[:, k * self._channels : (k + 1) * self._channels]
            way = self._groups.get(tool.listens_to)
            if way is None:
                read = (
                    partial(self._keys.drawn, self._mics[k], tool) if tool.drawn else partial(self._keys.read, tool.key)
                )
                lanes[:] = read(start, end)[:, None]
                continue
            first = way.names.index(tool.listens_to) * 2
            sides = way.audio[start - way.start : end - way.start, first : first + 2]
            lanes[:] = sides if self._channels == 2 else np.float32(0.5) * (sides[:, :1] + sides[:, 1:])
        return out


def _go() -> None:
    """Nobody stops a block."""


class _Sum:
    """Outputs side by side: the sums from one sample to another, in ``audio`` once all pieces of ``adding`` were called."""

    def __init__(self, several: list[Feeds], width: int, ways: list[_Way], timeline: Timeline) -> None:
        self.lanes, self.width = 2 * len(several), width
        self._gains = _gains_of(several, width, ways, timeline)
        self.audio = fresh(0, width)

    def adding(self, start: int, stop: int) -> list[Callable[[], None]]:
        """Go on, and return what adds up piece by piece."""
        self.audio = fresh(stop - start, self.width)
        return [
            partial(_add_up, self._gains, start + at, self.audio[at : at + SUMMED])
            for at in range(0, stop - start, SUMMED)
        ]


def _add_up(several: list[_Gains], start: int, out: np.ndarray) -> None:
    """Write what banks give to a sum, from a sample on."""
    out.fill(0.0)
    for gains in several:
        gains.add(start, out)
