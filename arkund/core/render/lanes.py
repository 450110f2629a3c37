"""Strips rendered tool by tool over their windows: what is kept of a strip is taken, and only what comes after it is rendered, side by side in banks."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from arkund.core.beside import shared
from arkund.core.dsp.bank import NARROW, borrowed, fill, returned, separate
from arkund.core.render.banks import Bank, shared_out
from arkund.core.render.cache import SpanCache
from arkund.core.render.graph import KIT, Feeds, Rig, Strip
from arkund.core.render.keys import Keys
from arkund.core.render.pipeline import Pipeline, side_by_side
from arkund.core.render.source import Sources
from arkund.core.render.windows import Place, Window


@dataclass(frozen=True, slots=True)
class Row:
    """A strip's audio over a window [float32, shape=(channels, samples)]."""

    audio: np.ndarray
    window: Window

    def over(self, window: Window) -> np.ndarray:
        """Return the part over a window within this one."""
        return self.audio[:, window[0] - self.window[0] : window[1] - self.window[0]]


@dataclass(slots=True)
class Lane:
    """One part of a strip: what is there of it, after how many of its tools; None for nothing yet."""

    strip: Strip
    place: Place
    part: int
    number: int = 0
    row: Row | None = None
    past: list[Row] = field(default_factory=list)  # what was there before, where the strip is watched

    def window(self, number: int) -> Window:
        """Return where it is rendered after so many tools."""
        return self.place.stage(number, self.part)

    def key(self, number: int) -> str:
        """Return what it is kept under after so many tools."""
        return f"{self.strip.keys[number]}@{self.place.depends[number]}"

    @property
    def rest(self) -> tuple[str, ...]:
        """The kinds of tools that are still to be run."""
        return self.strip.kinds[self.number :]


class Lanes:
    """All strips of one request, as far as they were asked for."""

    def __init__(
        self,
        rig: Rig,
        places: dict[str, Place],
        sources: Sources,
        keys: Keys,
        cache: SpanCache,
        check: Callable[[], None],
        rate: int,
    ) -> None:
        self.rig, self.places, self.asked = rig, places, {}
        self.watched = ""  # a strip of which all is wanted that is between its tools
        self._sources, self._keys, self._cache, self.check, self._rate = sources, keys, cache, check, rate

    def kept(self, key: str, window: Window, make: Callable[[], np.ndarray]) -> np.ndarray:
        """Return what is kept under a key, made where nothing is."""
        found = self._cache.get(key, *window)
        if found is None:
            found = make()
            self._cache.put(key, *window, found)
        return found

    def ask(self, name: str) -> bool:
        """Look for what is kept of a strip; say whether what comes into it is still needed."""
        strip, place = self.rig.strips[name], self.places.get(name)
        if place is None:  # not heard here
            self.asked[name] = []
            return False
        lanes = self.asked[name] = [Lane(strip, place, part) for part in range(len(place.parts))]
        for lane in lanes if name != self.watched else ():
            for number in range(len(strip.tools), 0 if not strip.mic else -1, -1):
                window = lane.window(number)
                found = self._cache.get(lane.key(number), *window)
                if found is not None:
                    lane.number, lane.row = number, Row(found, window)
                    break
        return any(lane.row is None for lane in lanes)

    def groups_heard_by(self, name: str) -> list[str]:
        """Return the groups that the tools of a strip listen to that are still to be run."""
        tools = {tool for lane in self.asked[name] for tool in lane.strip.tools[lane.number if lane.row else 0 :]}
        return [tool.listens_to for tool in tools if (tool.listens_to or "").startswith("group:")]

    def take_in(self, name: str, audio: np.ndarray) -> None:
        """Take what comes into all parts of a strip [shape=(2, samples)]. It is not kept: to add it up again takes less than fresh memory would."""
        whole = Row(audio[: self.rig.strips[name].channels], self.places[name].input)
        for lane in self.asked[name]:
            lane.row = lane.row or whole

    def over(
        self, names: Sequence[str], window: Window, edges: Sequence[int] = ()
    ) -> Iterator[tuple[int, list[np.ndarray]]]:
        """Yield what strips give within a window, piece by piece where their parts begin and end, and at more edges: where a piece begins, and its rows.

        Two rows for a stereo strip. A strip that does not reach so far is silent.
        """
        parts = [lane.place.parts[lane.part] for name in names for lane in self.asked[name]]
        inside = {edge for part in [*parts, edges] for edge in part if window[0] < edge < window[1]}
        for start, stop in pairwise(sorted({*window, *inside})):
            yield start, [row for name in names for row in self._there(name, start, stop)]

    def gains(self, names: Sequence[str], feeds: Feeds, part: int) -> list[tuple[float, float]]:
        """Return the gains to left and right that the rows of strips have in a sum, in a part of the song."""
        mine, out = {feed.strip: feed for feed in feeds}, []
        for name in names:
            left, right = mine[name].gains(part) if name in mine else (0.0, 0.0)
            mono = self.rig.strips[name].channels == 1
            out += [(left, right)] if mono else [(left, 0.0), (0.0, right)]
        return out

    def row_of(self, name: str, span: Window) -> list[np.ndarray]:
        """Return a span of the watched strip before any tool and after each [each shape=(channels, samples)]."""
        out = []
        for number in range(len(self.rig.strips[name].tools) + 1):
            parts = []
            for lane in self.asked[name]:
                first, last = lane.place.parts[lane.part]
                row = [*lane.past, lane.row][number]
                parts.append(row.over((max(first, span[0]), max(min(last, span[1]), span[0]))))
            out.append(np.concatenate(parts, axis=1))
        return out

    def _there(self, name: str, start: int, stop: int) -> np.ndarray:
        """Return what a strip gives over a piece that lies within one of its parts, or in none."""
        for lane in self.asked[name]:
            first, last = lane.place.parts[lane.part]
            if first <= start and stop <= last:
                return lane.row.over((start, stop))
        return np.zeros((self.rig.strips[name].channels, stop - start), np.float32)

    def render(self, names: Sequence[str], executor: Executor | None) -> None:
        """Render the rest of some strips, none of which needs another."""
        lanes = [lane for name in names for lane in self.asked[name] if lane.row is None or lane.rest]
        if not lanes:
            return
        channels = lanes[0].strip.channels
        lanes.sort(key=lambda lane: lane.place.leads[lane.number])  # those that begin early together
        least = 2 if executor and len(lanes) * channels > NARROW else 1
        banks = [[lanes[k] for k in bank] for bank in shared_out(tuple(lane.rest for lane in lanes), channels, least)]
        ways = [way for way in shared(self._bank, banks, executor) if way.bank.runs]
        side_by_side([way.pipeline(self.check) for way in ways], executor)
        for way in ways:
            returned(way.audio)
            for lane, made in zip(way.lanes, way.made(), strict=True):
                self._put(lane, made)

    def _bank(self, lanes: list[Lane]) -> "_Way":
        """Return the way of lanes side by side to their end.

        All begin with the earliest of them. The others are silent until their own window begins, which is whole blocks later, so that no lane depends
        on those beside it.
        """
        for lane in lanes:
            if lane.row is None:
                self.check()
                window = lane.window(0)
                lane.row = Row(self._sources.read(lane.strip.mic, *window)[None], window)
                self._cache.put(lane.key(0), *window, lane.row.audio)
        bank = Bank([lane.strip.tools[lane.number :] for lane in lanes], lanes[0].strip.channels, self._rate)
        return _Way(lanes, bank, self.key_of)

    def _put(self, lane: Lane, made: list[Row]) -> None:
        """Take what the rest of a lane's tools gave, and keep it."""
        for row in made:
            if lane.strip.name == self.watched:
                lane.past.append(lane.row)
            lane.number, lane.row = lane.number + 1, row
            if lane.strip.name != KIT or lane.rest:  # what leaves the kit is kept as an output
                self._cache.put(lane.key(lane.number), *row.window, row.audio)

    def key_of(self, lane: Lane, number: int) -> list[np.ndarray] | None:
        """Return what a lane's tool reads beside it while it runs, a row for each channel: what its detector hears elsewhere, or what is drawn."""
        tool, window = lane.strip.tools[number], lane.window(number)
        if tool.drawn:
            return [self._keys.drawn(lane.strip.mic, tool, *window)]
        if not tool.listens_to:
            return None
        if not tool.listens_to.startswith("group:"):
            return [self._keys.read(tool.key, *window)] * lane.strip.channels
        pieces = [rows for _, rows in self.over([tool.listens_to], window)]
        left, right = (np.concatenate(side) for side in zip(*pieces, strict=True))
        return [left, right] if lane.strip.channels == 2 else [np.float32(0.5) * (left + right)]


class _Way:
    """A bank of lanes on its way through its tools: where each lane begins, and what it gives, tool by tool."""

    def __init__(self, lanes: list[Lane], bank: Bank, key_of: Callable[[Lane, int], list[np.ndarray] | None]) -> None:
        self.lanes, self.bank, self.channels = lanes, bank, lanes[0].strip.channels
        earliest = max(lane.place.leads[lane.number] for lane in lanes)
        numbers = [lane.number for lane in lanes]  # of tools that each lane has been through
        self.late: list[list[int]] = []  # by tool of the bank: the row at which each lane begins after it
        self.rows: list[list[Row | None]] = []  # likewise: what it gives, None where it is a wire
        late = [earliest - lane.place.leads[lane.number] for lane in lanes]
        self.first = late
        self.keys: list[list[list[np.ndarray] | None]] = []  # likewise: what its detector hears elsewhere
        self.begins: list[list[int]] = []  # and the row at which that begins
        for place in range(len(bank.runs)):
            made, heard, before = [], [], late
            for k, lane in enumerate(lanes):
                mine = place in bank.places[k]
                heard.append(key_of(lane, numbers[k]) if mine else None)
                numbers[k] += mine
                window = lane.window(numbers[k])
                room = np.empty((self.channels, window[1] - window[0]), np.float32) if mine else None
                made.append(Row(room, window) if mine else None)
                if mine:
                    late = [*late[:k], earliest - lane.place.leads[numbers[k]], *late[k + 1 :]]
            self.begins.append(before)
            self.keys.append(heard)
            self.late.append(late)
            self.rows.append(made)
        self.audio = self._begin() if bank.runs else None

    def pipeline(self, check: Callable[[], None]) -> Pipeline:
        """Return all lanes' work in all tools."""
        audio = self.audio
        begins = [min(late) for late in [self.first, *self.late]][: len(self.bank.runs)]
        keys = [self._key_bank(place, audio) for place in range(len(self.bank.runs))]
        return Pipeline(self.bank, audio, begins, check, lambda *done: self._keep(audio, *done), keys)

    def made(self) -> list[list[Row]]:
        """Return what each of its own tools gave, lane by lane."""
        return [[row for row in rows if row] for rows in zip(*self.rows, strict=True)]

    def _begin(self) -> np.ndarray:
        """Return the bank before its first tool, as long as the last of what comes out needs."""
        sides = [side for lane in self.lanes for side in lane.row.over(lane.window(lane.number))]
        late = [at for at in self.first for _ in range(self.channels)]
        ends = [begin + side.size for begin, side in zip(late, sides, strict=True)]
        for behind, begins, rows in zip(self.bank.behind, self.late, self.rows, strict=True):
            ends += [begin + row.audio.shape[1] + behind for begin, row in zip(begins, rows, strict=True) if row]
        audio = borrowed(max(ends), self.bank.width)
        fill(audio, sides, late)
        return audio

    def _key_bank(self, place: int, audio: np.ndarray) -> np.ndarray | None:
        """Return what the detectors of a tool hear elsewhere, as a bank like the audio's; None where all hear their own."""
        if not any(self.keys[place]):
            return None
        out = np.zeros_like(audio)
        for k, (rows, begin) in enumerate(zip(self.keys[place], self.begins[place], strict=True)):
            for side, row in enumerate(rows or ()):
                out[begin : begin + row.size, k * self.channels + side] = row[: out.shape[0] - begin]
        return out

    def _keep(self, audio: np.ndarray, place: int, start: int, stop: int) -> None:
        """Take what a tool has done with some rows; before a lane begins, it is silent."""
        piece, unused = audio[start:stop], np.empty(stop - start, np.float32)
        rows, begins = [], []
        for k, (late, row) in enumerate(zip(self.late[place], self.rows[place], strict=True)):
            count = min(max(late - start, 0), stop - start)
            for side in range(self.channels):
                if count:
                    piece[:count, k * self.channels + side] = 0.0
                kept = (
                    unused[count:] if row is None else row.audio[side, start + count - late :][: stop - start - count]
                )
                rows.append(kept)
                begins.append(count)
        separate(piece, rows, begins)
