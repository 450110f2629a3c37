"""The signal path as data: strips with what feeds them, in the order in which they are rendered, built from the Plan by one function.

A key is a hash of settings and of the keys of what comes in, so equal work has an equal key whatever Plan it comes from. Both executors follow it: ``render``
by spans, ``stream`` from start to end. Which strip goes where, with what gain, is said here and nowhere else.
"""

import hashlib
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from graphlib import TopologicalSorter
from math import cos, pi, sin

from arkund.core.dsp.reach import NOTHING, Reach
from arkund.core.errors import SettingsError
from arkund.core.plan.plan import SHELF, MicPlan, Plan
from arkund.core.plan.scenes import laid, parts, trims
from arkund.core.render.banks import shared_out
from arkund.core.render.keys import content
from arkund.core.render.source import Recordings, edits_key, source_settings
from arkund.core.render.timeline import Timeline
from arkund.core.rig.hearing import ALL, Hearing, Listening, hearing
from arkund.core.rig.strips import OFF_DB
from arkund.core.rig.wiring import feeds_of, group_id
from arkund.core.tools.tool import Tool
from arkund.core.units import db_to_gain

MIX, KIT = "mix", "kit"
MOST_SOURCES = 512
_sources: dict[tuple, str] = {}


Gains = tuple[float, float]
Row = tuple[Tool, ...]


@dataclass(frozen=True, slots=True)
class Feed:
    """A strip's share of a sum: of a mic the gains to left and right, of a stereo strip those of its left and of its right.

    parts : the gains part by part of the rig's timeline, where they are not the same throughout
    """

    strip: str
    left: float
    right: float
    parts: tuple[Gains, ...] = ()

    def gains(self, part: int) -> Gains:
        """Return the gains to left and right in a part of the song."""
        return self.parts[part] if self.parts else (self.left, self.right)


Feeds = tuple[Feed, ...]


@dataclass(frozen=True, slots=True)
class Strip:
    """A strip as it is rendered.

    name : ``mic:ID``, ``group:ID``, ``path:ID`` or ``kit``; of a strip whose row differs by scene, with ``.NUMBER`` behind it for each row, and the name
    itself is what they are together; mic : where a mic comes in; feeds : else what is heard of those before it; tools : those that are on; keys : of what comes
    in, and after each tool; row : what all its tools need together, those that are off as well, so that switching one leaves the windows of what comes before
    it alone; heard : where it is heard at all, None for everywhere
    """

    name: str
    mic: MicPlan | None
    feeds: Feeds
    tools: tuple[Tool, ...]
    keys: tuple[str, ...]
    reaches: tuple[Reach, ...]
    row: Reach
    heard: tuple[tuple[int, int], ...] | None = None

    @property
    def channels(self) -> int:
        """How many there are."""
        return 1 if self.name.startswith("mic:") else 2

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
    heard or not; outputs : what can be rendered, as sums; stems : those that add up to the mix; timeline : where gains change with the scenes
    """

    strips: dict[str, Strip]
    generations: tuple[tuple[tuple[str, ...], ...], ...]
    wired: dict[str, tuple[str, ...]]
    outputs: dict[str, Feeds]
    stems: tuple[str, ...]
    timeline: Timeline

    def key_of(self, feeds: Feeds) -> str:
        """Return the key of a sum."""
        return _sum_key(self.strips, feeds, self.timeline)


def build(plan: Plan, recordings: Recordings, wanted: str | None = None, listening: Listening = ALL) -> Rig:
    """Return the rig of a Plan; with ``wanted``, a rig that has this output; ``listening`` : what is soloed and muted for listening.

    Outputs: ``kit``, ``mix`` (before the kit's tools), ``group:ID`` and ``path:ID`` (at their level), ``drum:PIECE`` (what is not muted of it, through
    the tools of its groups), ``alone:MIC`` (at its level and place). Raises SettingsError for an output that is not known.
    """
    return _Builder(plan, recordings, listening).rig(wanted)


class _Part:
    """A part of the song as it is wired: settings by name, what is heard, and which row of tools each strip has."""

    def __init__(self, plan: Plan, listening: Listening) -> None:
        self.plan = plan
        self.settings = {
            **{f"mic:{mic.id}": mic for mic in plan.standing},
            **{f"group:{group.id}": group for group in plan.groups},
            **{f"path:{path.id}": path for path in plan.paths},
            KIT: plan.kit,
        }
        self.heard: Hearing = hearing(plan, listening)
        self.stands_for = {name: name for name in self.settings}  # the strip that has its row
        self.feeds: dict[str, Feeds] = {}


class _Builder:
    def __init__(self, plan: Plan, recordings: Recordings, listening: Listening) -> None:
        self.plan, self.recordings, self.rate = plan, recordings, recordings.sample_rate_hz
        row = parts(plan, self.rate)
        self.timeline = Timeline(tuple((part.at, part.fade) for part in row[1:]))
        alike = {id(part.plan): part.plan for part in row}  # a song comes back to what held before
        self.different = {key: _Part(each, listening) for key, each in alike.items()}
        self.parts = [self.different[id(part.plan)] for part in row]
        self.settings = self.parts[0].settings
        self.trims = trims(plan, self.rate) if plan.scenes else {}
        self.laid = laid(plan, self.rate) if plan.scenes else {}
        self.group_of = {mic.id: group_id(mic, plan.groups) for mic in plan.standing}
        self.members: dict[str, list[str]] = {}
        for mic, into in self.group_of.items():
            self.members.setdefault(into, []).append(mic)
        self.edits = edits_key(plan)
        self.altered = _stand_in(
            plan.take,
            plan.lone_cuts,
            plan.captures,
            plan.placements,
            tuple((mic, self.laid.get(mic.id)) for mic in plan.mics if mic.into),
            tuple(recordings.content(SHELF, part.key) for capture in plan.captures for part in capture.parts),
        )
        self.takes = sorted({plan.take, *(capture.take for capture in plan.captures)})
        self.strips: dict[str, Strip] = {}
        self.several: set[str] = set()  # strips whose row differs by scene
        self.elsewhere: dict[str, str] = {}

    def rig(self, wanted: str | None) -> Rig:
        plan = self.plan
        mics = [mic for mic in plan.standing if f"drum:{mic.piece}" == wanted]
        drum = [mic.id for mic in mics if not mic.mute] or [mic.id for mic in mics]
        rows = self._rows()
        wired = self._wired(rows)
        generations = []
        for names in _generations(wired, self.several):
            kinds = [tuple(tool.kind for tool in rows[name] if tool.on) for name in names]
            channels = 1 if names[0].startswith("mic:") else 2
            generations.append(tuple(tuple(names[k] for k in bank) for bank in shared_out(tuple(kinds), channels)))
        self.order = {name: k for k, name in enumerate(n for banks in generations for bank in banks for n in bank)}
        for name in self.order:
            self.strips[name] = self._together(name) if name in self.several else self._strip(name, rows[name], drum)
        outputs = self._merged_outputs(wanted, drum)
        if wanted is not None and not wanted.startswith("strip:") and wanted not in outputs:
            known = sorted(
                {*outputs, *(each for mic in plan.standing for each in (f"drum:{mic.piece}", f"alone:{mic.id}"))}
            )
            raise SettingsError(f"output: unknown {wanted!r}; known are {', '.join(known)}.")
        stems = dict.fromkeys(stem for part in self.different.values() for stem in self._stems(part))
        return Rig(self.strips, tuple(generations), wired, outputs, tuple(stems), self.timeline)

    def _rows(self) -> dict[str, Row]:
        """Return the row of each strip, and of one whose row differs by scene each row by a name of its own, and none for what they are together."""
        out: dict[str, Row] = {}
        for name in self.settings:
            found = list(dict.fromkeys(part.settings[name].tools for part in self.parts))
            if len(found) > 1:
                self.several.add(name)
                for part in self.parts:
                    part.stands_for[name] = f"{name}.{found.index(part.settings[name].tools) + 1}"
                    out[part.stands_for[name]] = part.settings[name].tools
            out[name] = found[0] if len(found) == 1 else ()
        return out

    def _wired(self, rows: dict[str, Row]) -> dict[str, tuple[str, ...]]:
        """Return which strips may feed one or be listened to, in any part of the song."""
        fed: dict[str, dict[str, None]] = {name: {} for name in self.settings}
        for part in self.different.values():
            for name, before in feeds_of(part.plan.standing, part.plan.groups, part.plan.paths).items():
                fed[name].update(dict.fromkeys(sorted(before)))
        fed[KIT].update(dict.fromkeys(name for name in self.settings if name != KIT and self._goes_to_kit(name)))
        out: dict[str, tuple[str, ...]] = {}
        for name in rows:
            if name in self.several:
                out[name] = tuple(dict.fromkeys(part.stands_for[name] for part in self.parts))
                continue
            before = dict.fromkeys(
                part.stands_for[each] for each in fed[_own(name)] for part in self.different.values()
            )
            listened = dict.fromkeys(
                tool.listens_to for tool in rows[name] if (tool.listens_to or "").startswith("group:")
            )
            out[name] = tuple(before | listened)
        return out

    def _goes_to_kit(self, name: str) -> bool:
        kind, _, strip = name.partition(":")
        if kind == "group":
            return True
        return not (self.settings[name].into if kind == "path" else self.group_of[strip])

    def _through(self, part: _Part, feeds: Iterable[Feed]) -> Iterator[Feed]:
        """Yield feeds, those of a stereo strip without tools in its place: nothing is rendered only to be added up."""
        for feed in feeds:
            strip = self.strips[feed.strip]
            if strip.mic or strip.tools:
                yield feed
            else:
                mine = part.feeds[feed.strip]
                yield from (Feed(each.strip, each.left * feed.left, each.right * feed.right) for each in mine)

    def _sum(self, part: _Part, feeds: Iterable[Feed]) -> Feeds:
        """Return feeds of a part as they are added up: each strip once, in the order of the strips."""
        out: dict[str, Feed] = {}
        for feed in self._through(part, feeds):
            mine = out.get(feed.strip)
            out[feed.strip] = Feed(feed.strip, mine.left + feed.left, mine.right + feed.right) if mine else feed
        return tuple(sorted(out.values(), key=lambda feed: self.order[feed.strip]))

    def _merged(self, several: Sequence[Feeds]) -> Feeds:
        """Return the feeds of all parts as those of the song."""
        if len(several) == 1 or all(feeds == several[0] for feeds in several):
            return several[0]
        by_part = [{feed.strip: (feed.left, feed.right) for feed in feeds} for feeds in several]
        out = []
        for strip in sorted({strip for mine in by_part for strip in mine}, key=self.order.__getitem__):
            gains = tuple(mine.get(strip, (0.0, 0.0)) for mine in by_part)
            out.append(Feed(strip, *gains[0], () if len(set(gains)) == 1 else gains))
        return tuple(out)

    def _feeds(self, part: _Part, name: str, drum: list[str]) -> Iterator[Feed]:
        """Yield what a strip gets in a part. drum : the mics that alone are heard in their groups, where a drum is listened to by itself"""
        heard, plan = part.heard, part.plan
        kind, _, strip = name.partition(":")
        if kind == "group":
            members = self.members.get(strip, [])
            if mine := [mic for mic in members if mic in drum]:
                yield from (self._at_level(part, f"mic:{mic}") for mic in mine)
                return
            yield from (self._at_level(part, f"mic:{mic}") for mic in members if mic in heard.mics)
            yield from (
                self._at_level(part, f"path:{p.id}") for p in plan.paths if p.into == strip and p.id in heard.paths
            )
        elif kind == "path":
            for each, settings in part.settings.items():
                if heard.sounds(each) and (send_db := settings.send_db(strip)) > OFF_DB:
                    yield self._placed(part, each, send_db)
        elif kind == KIT:
            yield from (self._at_level(part, each) for each in self._into_kit(heard))

    def _into_kit(self, heard: Hearing) -> Iterator[str]:
        if heard.dry:
            yield from (f"group:{group.id}" for group in self.plan.groups if group.id in heard.groups)
            yield from (f"mic:{mic}" for mic in self.members.get("", ()) if mic in heard.mics)
        yield from (f"path:{p.id}" for p in self.plan.paths if p.id in heard.paths and not (p.into and heard.dry))

    def _at_level(self, part: _Part, name: str) -> Feed:
        return self._placed(part, name, part.settings[name].level_db)

    def _placed(self, part: _Part, name: str, level_db: float) -> Feed:
        left, right = _gains(level_db, part.settings[name].pan, name.startswith("mic:"))
        return Feed(part.stands_for[name], left, right)

    def _merged_outputs(self, wanted: str | None, drum: list[str]) -> dict[str, Feeds]:
        made = {
            key: self._outputs(part, wanted) | ({wanted: self._drum(part, drum)} if drum else {})
            for key, part in self.different.items()
        }
        several = [made[id(part.plan)] for part in self.parts]
        known = dict.fromkeys(name for mine in several for name in mine)
        return {name: self._merged([mine.get(name, ()) for mine in several]) for name in known}

    def _outputs(self, part: _Part, wanted: str | None) -> dict[str, Feeds]:
        heard, level = part.heard, float(db_to_gain(part.plan.kit.level_db))
        out = {KIT: self._sum(part, [Feed(part.stands_for[KIT], level, level)]), MIX: part.feeds[KIT]}
        groups = [g.id for g in part.plan.groups if g.id in heard.groups and part.feeds[f"group:{g.id}"]]
        stems = [f"group:{group}" for group in groups] + [
            f"path:{p.id}" for p in part.plan.paths if p.id in heard.paths
        ]
        out |= {stem: self._sum(part, [self._at_level(part, stem)]) for stem in stems}
        alone = [mic for mic, into in self.group_of.items() if not into or wanted == f"alone:{mic}"]
        return out | {f"alone:{mic}": self._sum(part, [self._at_level(part, f"mic:{mic}")]) for mic in alone}

    def _stems(self, part: _Part) -> tuple[str, ...]:
        """Return what goes into the kit: groups that have members, mics of no group, paths."""
        into = [name.replace("mic:", "alone:") for name in self._into_kit(part.heard)]
        return tuple(name for name in into if name.startswith("alone:") or part.feeds[name])

    def _drum(self, part: _Part, mics: list[str]) -> Feeds:
        """Return a drum by itself, through the tools of the groups that its mics belong to."""
        names = dict.fromkeys(f"group:{into}" if (into := self.group_of[mic]) else f"mic:{mic}" for mic in mics)
        return self._sum(part, (self._at_level(part, name) for name in names))

    def _strip(self, name: str, row_of_tools: Row, drum: list[str]) -> Strip:
        own = _own(name)
        mic = mine if isinstance(mine := self.settings[own], MicPlan) else None
        feeds: Feeds = ()
        if not mic:
            for part in self.different.values():
                if own not in part.feeds:
                    part.feeds[own] = self._sum(part, self._feeds(part, own, drum))
                part.feeds[name] = part.feeds[own]
            feeds = self._merged([part.feeds[own] for part in self.parts])
        key = self._source(mic) if mic else _sum_key(self.strips, feeds, self.timeline)
        keys, reaches, row = [key], [], NOTHING
        for tool in row_of_tools:
            row += _reach(tool, self.rate)
        tools = tuple(tool for tool in row_of_tools if tool.on)
        for tool in tools:
            keys.append(_after(tool, keys[-1], self._heard_by(tool)))
            reaches.append(_reach(tool, self.rate))
        heard = (
            None
            if name == own
            else tuple(self.timeline.span_of(k) for k, part in enumerate(self.parts) if part.stands_for[own] == name)
        )
        return Strip(name, mic, feeds, tools, tuple(keys), tuple(reaches), row, heard)

    def _together(self, name: str) -> Strip:
        """Return a strip whose row differs by scene, as the sum of what it is with each of its rows where that holds."""
        both = 0.0 if name.startswith("mic:") else 1.0  # a mic has one side
        feeds = self._merged([(Feed(part.stands_for[name], 1.0, both),) for part in self.parts])
        return Strip(name, None, feeds, (), (_sum_key(self.strips, feeds, self.timeline),), (), NOTHING)

    def _source(self, mic: MicPlan) -> str:
        """Return the key of what comes into a mic. Remembered by what it is made of, because a change leaves nearly all of them as they were."""
        takes = tuple(self.recordings.content(take, mic.id) for take in self.takes)
        trim = self.trims.get(mic.id, mic.trim_db)
        mine = (mic.id, mic.piece, mic.role, trim, mic.line_up, mic.clock_ppm, mic.repair, mic.made, mic.sampled)
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


def _own(name: str) -> str:
    """Return the name of the strip of which this is one row: ids have no dots."""
    return name.partition(".")[0]


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


def _generations(wired: dict[str, tuple[str, ...]], sums: set[str]) -> Iterator[list[str]]:
    """Yield strips whose feeds are all there: mics, the sums of mics (which have one side), and the others apart."""
    sorter = TopologicalSorter(wired)
    sorter.prepare()
    place = {name: k for k, name in enumerate(wired)}
    while sorter.is_active():
        ready = sorted(sorter.get_ready(), key=place.__getitem__)
        sorter.done(*ready)
        of_mics = [name for name in ready if name.startswith("mic:")]
        yield from filter(
            None,
            (
                [name for name in of_mics if name not in sums],
                [name for name in of_mics if name in sums],
                [name for name in ready if not name.startswith("mic:")],
            ),
        )


def _sum_key(strips: dict[str, Strip], feeds: Feeds, timeline: Timeline) -> str:
    """Return the key of a sum: where its gains never change, the same in any song."""
    content: list = [[strips[feed.strip].keys[-1], feed.left, feed.right] for feed in feeds]
    if any(feed.parts for feed in feeds):
        content += [timeline.changes, [feed.parts for feed in feeds]]
    return hashed(content)


def hashed(content: object) -> str:
    """Return a key of plain data."""
    return hashlib.sha256(json.dumps(content, sort_keys=True).encode()).hexdigest()


@lru_cache(maxsize=4096)
def _gains(level_db: float, pan: float, mono: bool) -> Gains:
    gain = float(db_to_gain(level_db))
    left, right = pan_gains(pan) if mono else balance_gains(pan)
    return gain * left, gain * right


def pan_gains(pan: float) -> tuple[float, float]:
    """Return a mic's left and right gain: equal power, 0 dB at the side, -3 dB in the middle."""
    angle = (pan + 1.0) * pi / 4.0
    return cos(angle), sin(angle)


def balance_gains(pan: float) -> tuple[float, float]:
    """Return the gains of a stereo strip's sides: both 0 dB in the middle, towards a side the other one falls."""
    return min(1.0, 1.0 - pan), min(1.0, 1.0 + pan)
