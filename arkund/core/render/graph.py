"""The signal path as data: strips with what feeds them, in the order in which they are rendered, built from the Plan by one function.

A key is a hash of settings and of the keys of what comes in, so equal work has an equal key whatever Plan it comes from. Both executors follow it: ``render``
by spans, ``stream`` from start to end. Which strip goes where, with what gain, is said here and nowhere else.
"""

import hashlib
import json
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from functools import lru_cache
from graphlib import TopologicalSorter
from math import cos, pi, sin

from arkund.core.dsp.reach import NOTHING, Reach
from arkund.core.errors import SettingsError
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.render.banks import shared_out
from arkund.core.render.keys import content
from arkund.core.render.source import Recordings, edits_key, source_settings
from arkund.core.rig.hearing import Hearing, hearing
from arkund.core.rig.strips import OFF_DB
from arkund.core.rig.wiring import feeds_of, group_id
from arkund.core.tools.tool import Tool
from arkund.core.units import db_to_gain

MIX, KIT = "mix", "kit"
MOST_SOURCES = 512
_sources: dict[tuple, str] = {}


@dataclass(frozen=True, slots=True)
class Feed:
    """A strip's share of a sum: of a mic the gains to left and right, of a stereo strip those of its left and of its right."""

    strip: str
    left: float
    right: float


Feeds = tuple[Feed, ...]


@dataclass(frozen=True, slots=True)
class Strip:
    """A strip as it is rendered.

    name : ``mic:ID``, ``group:ID``, ``path:ID`` or ``kit``; mic : for a mic; feeds : for any other, what is heard of those before it; tools : those that are
    on; keys : of what comes in, and after each tool; row : what all its tools need together, those that are off as well, so that switching one leaves the
    windows of what comes before it alone
    """

    name: str
    mic: MicPlan | None
    feeds: Feeds
    tools: tuple[Tool, ...]
    keys: tuple[str, ...]
    reaches: tuple[Reach, ...]
    row: Reach

    @property
    def channels(self) -> int:
        """How many there are."""
        return 1 if self.mic else 2

    @property
    def keyed_by(self) -> tuple[str, ...]:
        """What its tools' detectors listen to elsewhere."""
        return tuple(tool.listens_to for tool in self.tools if tool.listens_to)

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of its tools."""
        return tuple(tool.kind for tool in self.tools)


@dataclass(frozen=True, slots=True)
class Rig:
    """All strips of a Plan.

    strips : in the order in which sums add them up; generations : banks of strips that need only what comes before them; wired : which strips may feed one,
    heard or not; outputs : what can be rendered, as sums; stems : those that add up to the mix
    """

    strips: dict[str, Strip]
    generations: tuple[tuple[tuple[str, ...], ...], ...]
    wired: dict[str, tuple[str, ...]]
    outputs: dict[str, Feeds]
    stems: tuple[str, ...]

    def key_of(self, feeds: Feeds) -> str:
        """Return the key of a sum."""
        return _sum_key(self.strips, feeds)


def build(plan: Plan, recordings: Recordings, wanted: str | None = None) -> Rig:
    """Return the rig of a Plan; with ``wanted``, a rig that has this output.

    Outputs: ``kit``, ``mix`` (before the kit's tools), ``group:ID`` and ``path:ID`` (at their level), ``drum:PIECE`` (through the tools of its groups),
    ``alone:MIC`` (at its level and place). Raises SettingsError for an output that is not known.
    """
    return _Builder(plan, recordings).rig(wanted)


class _Builder:
    def __init__(self, plan: Plan, recordings: Recordings) -> None:
        self.plan, self.recordings, self.rate = plan, recordings, recordings.sample_rate_hz
        self.group_of = {mic.id: group_id(mic, plan.groups) for mic in plan.mics}
        self.settings = {
            **{f"mic:{mic.id}": mic for mic in plan.mics},
            **{f"group:{group.id}": group for group in plan.groups},
            **{f"path:{path.id}": path for path in plan.paths},
            KIT: plan.kit,
        }
        self.edits = edits_key(plan)
        self.altered = _stand_in(plan.take, plan.lone_cuts, plan.captures, plan.placements, plan.layers)
        self.takes = sorted({plan.take, *(capture.take for capture in plan.captures)})
        self.strips: dict[str, Strip] = {}
        self.elsewhere: dict[str, str] = {}

    def rig(self, wanted: str | None) -> Rig:
        plan = self.plan
        wired = {name: tuple(before) for name, before in feeds_of(plan.mics, plan.groups, plan.paths).items()}
        into_kit = [name for name in self.settings if name != KIT and self._goes_to_kit(name)]
        wired[KIT] = tuple(into_kit)
        heard = hearing(plan)
        drum = [mic.id for mic in plan.mics if f"drum:{mic.piece}" == wanted]
        generations = []
        for names in _generations(wired):
            rows = [tuple(tool.kind for tool in self.settings[name].tools if tool.on) for name in names]
            channels = 1 if names[0].startswith("mic:") else 2
            generations.append(tuple(tuple(names[k] for k in bank) for bank in shared_out(tuple(rows), channels)))
        self.order = {name: k for k, name in enumerate(n for banks in generations for bank in banks for n in bank)}
        for name in self.order:
            self.strips[name] = self._strip(name, self._sum(self._feeds(name, heard, drum)))
        outputs = self._outputs(heard) | ({wanted: self._drum(drum)} if drum else {})
        if wanted is not None and not wanted.startswith("strip:") and wanted not in outputs:
            known = sorted({*outputs, *(f"drum:{mic.piece}" for mic in plan.mics)})
            raise SettingsError(f"output: unknown {wanted!r}; known are {', '.join(known)}.")
        return Rig(self.strips, tuple(generations), wired, outputs, self._stems(heard))

    def _goes_to_kit(self, name: str) -> bool:
        kind, _, strip = name.partition(":")
        if kind == "group":
            return True
        return not (self.settings[name].into if kind == "path" else self.group_of[strip])

    def _through(self, feeds: Iterable[Feed]) -> Iterator[Feed]:
        """Yield feeds, those of a stereo strip without tools in its place: nothing is rendered only to be added up."""
        for feed in feeds:
            strip = self.strips[feed.strip]
            if strip.mic or strip.tools:
                yield feed
            else:
                yield from (Feed(each.strip, each.left * feed.left, each.right * feed.right) for each in strip.feeds)

    def _sum(self, feeds: Iterable[Feed]) -> Feeds:
        """Return feeds as they are added up: each strip once, in the order of the strips."""
        out: dict[str, Feed] = {}
        for feed in self._through(feeds):
            mine = out.get(feed.strip)
            out[feed.strip] = Feed(feed.strip, mine.left + feed.left, mine.right + feed.right) if mine else feed
        return tuple(sorted(out.values(), key=lambda feed: self.order[feed.strip]))

    def _feeds(self, name: str, heard: Hearing, drum: list[str]) -> Iterator[Feed]:
        """Yield what a strip gets. drum : the mics that alone are heard in their groups, where a drum is listened to by itself"""
        kind, _, strip = name.partition(":")
        if kind == "group":
            members = [mic for mic, into in self.group_of.items() if into == strip]
            if mine := [mic for mic in members if mic in drum]:
                yield from (self._at_level(f"mic:{mic}") for mic in mine)
                return
            yield from (self._at_level(f"mic:{mic}") for mic in members if mic in heard.mics)
            yield from (
                self._at_level(f"path:{p.id}") for p in self.plan.paths if p.into == strip and p.id in heard.paths
            )
        elif kind == "path":
            for each, settings in self.settings.items():
                if heard.sounds(each) and (send_db := settings.send_db(strip)) > OFF_DB:
                    yield self._placed(each, send_db)
        elif kind == KIT:
            yield from (self._at_level(each) for each in self._into_kit(heard))

    def _into_kit(self, heard: Hearing) -> Iterator[str]:
        if heard.dry:
            yield from (f"group:{group.id}" for group in self.plan.groups if group.id in heard.groups)
            yield from (f"mic:{mic}" for mic, into in self.group_of.items() if not into and mic in heard.mics)
        yield from (f"path:{p.id}" for p in self.plan.paths if p.id in heard.paths and not (p.into and heard.dry))

    def _at_level(self, name: str) -> Feed:
        return self._placed(name, self.settings[name].level_db)

    def _placed(self, name: str, level_db: float) -> Feed:
        gain, pan = float(db_to_gain(level_db)), self.settings[name].pan
        left, right = pan_gains(pan) if name.startswith("mic:") else balance_gains(pan)
        return Feed(name, gain * left, gain * right)

    def _outputs(self, heard: Hearing) -> dict[str, Feeds]:
        level = float(db_to_gain(self.plan.kit.level_db))
        out = {KIT: self._sum([Feed(KIT, level, level)]), MIX: self.strips[KIT].feeds}
        groups = [g.id for g in self.plan.groups if g.id in heard.groups and self.strips[f"group:{g.id}"].feeds]
        stems = [f"group:{group}" for group in groups] + [
            f"path:{p.id}" for p in self.plan.paths if p.id in heard.paths
        ]
        out |= {stem: self._sum([self._at_level(stem)]) for stem in stems}
        return out | {f"alone:{mic.id}": self._sum([self._at_level(f"mic:{mic.id}")]) for mic in self.plan.mics}

    def _stems(self, heard: Hearing) -> tuple[str, ...]:
        """Return what goes into the kit: groups that have members, mics of no group, paths."""
        into = [name.replace("mic:", "alone:") for name in self._into_kit(heard)]
        return tuple(name for name in into if name.startswith("alone:") or self.strips[name].feeds)

    def _drum(self, mics: list[str]) -> Feeds:
        """Return a drum by itself, through the tools of the groups that its mics belong to."""
        names = dict.fromkeys(f"group:{into}" if (into := self.group_of[mic]) else f"mic:{mic}" for mic in mics)
        return self._sum(self._at_level(name) for name in names)

    def _strip(self, name: str, feeds: Feeds) -> Strip:
        settings = self.settings[name]
        mic = settings if isinstance(settings, MicPlan) else None
        key = self._source(mic) if mic else _sum_key(self.strips, feeds)
        keys, reaches, row = [key], [], NOTHING
        for tool in settings.tools:
            row += _reach(tool, self.rate)
        tools = tuple(tool for tool in settings.tools if tool.on)
        for tool in tools:
            keys.append(_after(tool, keys[-1], self._heard_by(tool)))
            reaches.append(_reach(tool, self.rate))
        return Strip(name, mic, feeds, tools, tuple(keys), tuple(reaches), row)

    def _source(self, mic: MicPlan) -> str:
        """Return the key of what comes into a mic. Remembered by what it is made of, because a change leaves nearly all of them as they were."""
        takes = tuple(self.recordings.content(take, mic.id) for take in self.takes)
        mine = (mic.id, mic.piece, mic.role, mic.trim_db, mic.line_up, mic.clock_ppm, mic.repair, mic.steps)
        key = (mine, takes, self.edits, self.altered, self.rate)
        if key not in _sources:
            _sources[key] = hashed(["source", source_settings(self.plan, self.recordings, mic, self.edits), self.rate])
            while len(_sources) > MOST_SOURCES:
                _sources.pop(next(iter(_sources)), None)
        return _sources[key]

    def _heard_by(self, tool: Tool) -> str:
        """Return the key of what a tool's detector listens to elsewhere."""
        of = tool.listens_to or ""
        if of.startswith("group:"):
            return self.strips[of].keys[-1]
        if of and of not in self.elsewhere:
            self.elsewhere[of] = hashed(content(self.plan, self.recordings, of))
        return self.elsewhere.get(of, "")


@lru_cache(maxsize=16)
def _stand_in(*content: object) -> object:
    """Return what stands for content in keys of this process: the same for equal content, which is compared once and not mic by mic."""
    return object()


# Remembered, because a change leaves nearly all of them as they were.
@lru_cache(maxsize=4096)
def _after(tool: Tool, key: str, heard: str) -> str:
    return hashed([tool.replace(id="").to_json(), key, heard])


@lru_cache(maxsize=2048)
def _reach(tool: Tool, rate: int) -> Reach:
    return tool.reach(rate)


def _generations(wired: dict[str, tuple[str, ...]]) -> Iterator[list[str]]:
    """Yield strips whose feeds are all there, mics apart from the others."""
    sorter = TopologicalSorter(wired)
    sorter.prepare()
    place = {name: k for k, name in enumerate(wired)}
    while sorter.is_active():
        ready = sorted(sorter.get_ready(), key=place.__getitem__)
        sorter.done(*ready)
        for mics in (True, False):
            if some := [name for name in ready if name.startswith("mic:") == mics]:
                yield some


def _sum_key(strips: dict[str, Strip], feeds: Feeds) -> str:
    return hashed([[strips[feed.strip].keys[-1], feed.left, feed.right] for feed in feeds])


def hashed(content: object) -> str:
    """Return a key of plain data."""
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()


def pan_gains(pan: float) -> tuple[float, float]:
    """Return a mic's left and right gain: equal power, 0 dB at the side, -3 dB in the middle."""
    angle = (pan + 1.0) * pi / 4.0
    return cos(angle), sin(angle)


def balance_gains(pan: float) -> tuple[float, float]:
    """Return the gains of a stereo strip's sides: both 0 dB in the middle, towards a side the other one falls."""
    return min(1.0, 1.0 - pan), min(1.0, 1.0 + pan)
