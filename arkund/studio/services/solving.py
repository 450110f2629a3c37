"""A strip's shaper and compressor brought to what is wanted of them, measured on what comes out: what was reached, and what it cost."""

import dataclasses
import functools
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from arkund.core.errors import SettingsError
from arkund.core.findings import Finding, with_minus
from arkund.core.plan.plan import MicPlan, Plan
from arkund.core.punch.heard import NEXT_HIT_S, Heard, cost_words, loudness_lufs
from arkund.core.punch.measure import (
    Bars,
    Taken,
    heard_clear,
    hits_before,
    in_rolls,
    over_bars,
    taken,
)
from arkund.core.punch.propose import TUCKED, UNDER, WANTED, first_settings, propose, propose_tuck, tucked
from arkund.core.punch.solve import Solved, Wanted, at_end, attack_for, compressor_for, words_of
from arkund.core.render.render import key_listen
from arkund.core.rig import places, rows
from arkund.core.timing.bars import bar_s
from arkund.core.tools.compressor import Compressor
from arkund.core.tools.shaper import Shaper
from arkund.core.tools.tool import Key, Tool
from arkund.studio.models import Move, Session
from arkund.studio.services import carding, moves, rigging
from arkund.studio.services.measuring import Measure
from arkund.studio.services.rendering import row_of

MOST_ROUNDS = 4  # a shaper before a compressor changes what that takes, and the other way round
TWO = 2  # bars that are shown
OVERHEADS = "group:overheads"


@dataclass(frozen=True, slots=True)
class _Search:
    """A strip whose tools are tried with other settings. piece : by whose hits it is judged, by its own where none is named."""

    measure: Measure
    strip: str
    piece: str = ""

    def with_tool(self, plan: Plan, tool: Tool) -> Plan:
        row = places.named(plan, self.strip).strip.tools
        return places.with_strip(plan, self.strip, tools=rows.with_own_id(row, tool))

    def heard(self, plan: Plan) -> Heard:
        plan, measure = plan.replace(scenes=()), self.measure
        mine = places.named(plan, self.strip)
        pieces = [self.piece] if self.piece else measure.pieces_of_strip(mine)
        span = measure.busy_span([h for each in pieces for h in measure.heard_hits.get(each, [])])
        audio = row_of(plan, measure.recordings, mine.name, span)
        if not audio:
            raise SettingsError(f"strip: nothing is heard of {mine.words}; is it muted?")
        hits, rolls, roll_gap_s = self._judging(pieces, span)
        if not hits:
            raise SettingsError(f"strip: {mine.words} has no hits of {' or '.join(pieces)} by which it could be set.")
        ids = tuple(tool.id for tool in mine.strip.tools if tool.on)
        return Heard(tuple(row.T for row in audio), ids, tuple(hits), measure.rate, span, tuple(rolls), roll_gap_s)

    def _judging(self, pieces: list[str], span: tuple[int, int]) -> tuple[list, list, float]:
        """Return the hits within a span that judge, in s from its start; of a single drum those that no other is near, and then those in its rolls and how
        soon the next one comes there.
        """
        every = carding.heard_hits(self.measure, span)
        latest = (span[1] - span[0]) / self.measure.rate - NEXT_HIT_S[1] / 2.0
        found = [h for piece in pieces for h in every.get(piece, []) if 0.15 < h.time_s < latest]
        found.sort(key=lambda h: h.time_s)
        if len(pieces) != 1:
            return found, [], 0.0
        clear = set(map(id, heard_clear(every.get(pieces[0], []), every, pieces[0])))
        return [h for h in found if id(h) in clear], *in_rolls(found)

    def attacked(self, plan: Plan, shaper: Shaper, wanted_db: float) -> Shaper:
        def changed_db(attack_db: float) -> float:
            return self.heard(self.with_tool(plan, shaper.replace(attack_db=attack_db))).attack_change_db()

        return shaper.replace(attack_db=attack_for(changed_db, wanted_db, shaper.attack_db))

    def compressed(self, plan: Plan, compressor: Compressor, wanted: Wanted) -> Compressor:
        windows = self.windows(self.with_tool(plan, compressor), compressor)
        own = compressor_for(windows, unkeyed(compressor), wanted, self.measure.rate)
        return compressor.replace(threshold_db=own.threshold_db, release_ms=own.release_ms)

    def as_loud(self, plan: Plan, compressor: Compressor) -> Compressor:
        """Return a compressor whose make-up gives the loudness back that it takes."""
        now = self.heard(self.with_tool(plan, compressor.replace(makeup_db=0.0)))
        was, left = (loudness_lufs(x, now.rate) for x in (now.before(compressor.id), now.after(compressor.id)))
        limits = Compressor.ranges()["makeup_db"]
        return compressor.replace(makeup_db=round(float(np.clip(was - left, limits.low, limits.high)), 1))

    def windows(
        self, plan: Plan, compressor: Compressor, now: Heard | None = None, *, rolls: bool = False
    ) -> list[np.ndarray]:
        """Return what a compressor hears around hits, or those in rolls alone: what comes into it, or its key."""
        now = now or self.heard(plan)
        audio = now.before(compressor.id)
        if compressor.key.of:
            plain = plan.replace(scenes=())
            audio = key_listen(plain, self.measure.recordings, self.strip, compressor.id, now.span)
        audio = audio[:, 0] if audio.shape[1] == 1 else audio
        hits, after_s = (now.rolls, now.roll_gap_s) if rolls else (now.hits, now.gap_s)
        return hits_before(lambda a, b: audio[max(a, 0) : b], list(hits), after_s, self.measure.rate)

    def taken(self, plan: Plan, compressor: Compressor, now: Heard | None = None) -> Taken:
        """Return what a compressor takes from hits, and what is left of that within rolls."""
        now, rate = now or self.heard(plan), self.measure.rate
        found = taken(self.windows(plan, compressor, now), unkeyed(compressor), rate)
        if not now.rolls:
            return found
        rolled = taken(self.windows(plan, compressor, now, rolls=True), unkeyed(compressor), rate)
        return dataclasses.replace(found, roll_left_db=rolled.left_db, roll_after_s=rolled.after_s)


def solve(
    measure: Measure, strip: str, wanted: Wanted, tool_id: str = "", piece: str = "", first: Iterable[Tool] = ()
) -> Solved:
    """Return the change by which a strip's compressor and shaper give what is wanted.

    tool_id : which of them, where a row has several; piece : by whose hits it is judged, by its own where none is named; first : settings to begin with instead
    of those in the row. Raises SettingsError for a strip without hits, and for a tool that is not there.
    """
    mine, search = places.named(measure.plan, strip), _Search(measure, strip, piece)
    plan, was = measure.plan, search.heard(measure.plan)
    begin = {each.kind: each for each in first}
    compressor = _tool(mine, tool_id, Compressor(), begin) if wanted.compresses else None
    shaper = _tool(mine, tool_id, Shaper(), begin) if wanted.attack_db is not None else None
    for each in (shaper, compressor):
        plan = plan if each is None else search.with_tool(plan, each)
    for _ in range(MOST_ROUNDS):
        if shaper is not None:
            shaper = search.attacked(plan, shaper, wanted.attack_db)
            plan = search.with_tool(plan, shaper)
        if compressor is not None:
            compressor = search.compressed(plan, compressor, wanted)
            plan = search.with_tool(plan, compressor)
        now = search.heard(plan)
        reached = _reached(search, plan, now, shaper, compressor)
        words, missed = words_of(wanted, reached)
        if not missed or shaper is None or compressor is None:
            break
    if wanted.as_loud and compressor is not None:  # which changes neither attack against body nor what is taken
        compressor = search.as_loud(plan, compressor)
        plan = search.with_tool(plan, compressor)
        now = search.heard(plan)
    tools = [each for each in (shaper, compressor) if each is not None]
    title = with_minus(f"{mine.words}: {', '.join(_settings(each) for each in tools)}")
    ends = at_end(shaper, compressor)
    return Solved(title, _values(mine, plan, tools), wanted.words, words, cost_words(was, now), reached, missed, ends)


def _reached(
    search: _Search, plan: Plan, now: Heard, shaper: Shaper | None, compressor: Compressor | None
) -> dict[str, float]:
    reached = {} if shaper is None else {"attack": round(now.attack_change_db(), 2)}
    if compressor is not None:
        found = search.taken(plan, compressor, now)
        reached |= {"reduction": found.deepest_db, "recovered": found.left_db}
    return reached


def _values(mine: places.Named, plan: Plan, tools: list[Tool]) -> dict:
    known = {each.id for each in mine.strip.tools}
    if all(each.id in known for each in tools):
        return {f"{mine.place}.tools.{each.id}": each.to_json() for each in tools}
    return {f"{mine.place}.tools": [each.to_json() for each in places.named(plan, mine.name).strip.tools]}


def _tool(mine: places.Named, tool_id: str, new: Tool, begin: dict[str, Tool]) -> Tool:
    """Return what is to be set: the tool of an id, the row's first of the kind, or a new one; with other settings where it begins with such."""
    found, first = mine.strip.first(new.kind), begin.get(new.kind)
    if tool_id:
        tool = mine.strip.tools[rows.place_of(mine.strip.tools, tool_id)]
        found = tool if tool.kind == new.kind else found
    if first is not None:
        return first if found is None or first.id != first.kind else first.replace(id=found.id)
    return (found or new).replace(on=True)


def unkeyed(compressor: Compressor) -> Compressor:
    """Return it as it hears what has been through the key's filters already, where that is elsewhere."""
    return compressor.replace(key=Key()) if compressor.key.of else compressor


def _settings(tool: Tool) -> str:
    if tool.kind == "shaper":
        return f"attack {tool.attack_db:+g} dB"
    makeup = f", {tool.makeup_db:+g} dB made up" if tool.makeup_db else ""
    return f"{tool.ratio:g}:1 at {tool.threshold_db:g} dB, release {tool.release_ms:g} ms{makeup}"


def make(session: Session, solved: Solved, version: int | None = None) -> Move:
    """Make what was solved for as one Move, with what was wanted, reached and what it cost."""
    return moves.apply(
        session.pk,
        solved.values,
        step="punch",
        title=solved.title[:200],
        measured=with_minus(solved.words),
        version=moves.read_at(session, version),
    )


def taken_by(measure: Measure, strip: str, compressor: Compressor) -> Taken | None:
    """Return what a compressor of a strip takes from its hits; None where nothing of it is heard, or it has none."""

    def compute() -> dict:
        try:
            return dataclasses.asdict(_Search(measure, strip).taken(measure.plan, compressor))
        except SettingsError:
            return {}

    found = measure.kept("taken", [measure.plan.to_json(), strip, compressor.id], compute)
    return Taken(**found) if found else None


def starts(measure: Measure) -> list[Finding]:
    """Return the notes that set each shell mic's shaper and compressor to what its school wants; none for a mic on which nothing is played, or that would
    hardly change. Mics are solved for side by side.
    """
    wanted = WANTED[measure.plan.school]
    mics = [mic for mic in measure.shells() if measure.heard_hits.get(mic.piece)]

    def compute(mic: MicPlan) -> dict:
        try:
            return dataclasses.asdict(solve(measure, f"mic:{mic.id}", wanted, first=first_settings(mic)))
        except SettingsError:  # nothing of it is heard
            return {}

    asked = [(_depends(measure, mic), functools.partial(compute, mic)) for mic in mics]
    found = zip(mics, measure.kept_each("punch_start", asked), strict=True)
    notes = (propose(mic, Solved(**data)) for mic, data in found if data)
    return [note for note in notes if note is not None]


def _depends(measure: Measure, mic: MicPlan) -> list:
    """Return what the sound of a mic's strip depends on: its source and row; with keys, what these hear as well."""
    alone = [measure.plan.school, measure.source_depends(mic), mic.to_json()]
    return [alone, measure.plan.to_json()] if any(tool.keyed for tool in mic.tools) else [alone]


def tuck(measure: Measure) -> Finding | None:
    """Return the note that lets the overheads give way to the snare; None where there are none, or the snare is not found."""
    plan = measure.plan
    known = {each.name for each in places.all_of(plan)}
    if OVERHEADS not in known or not measure.heard_hits.get(UNDER):
        return None

    def compute() -> dict:
        struck = [each.to_json() for each in rigging.struck_with(measure, UNDER)]
        keyed = measure.at(plan.replace(struck=rigging.struck_with(measure, UNDER)))
        try:
            solved = solve(keyed, OVERHEADS, TUCKED, piece=UNDER, first=(tucked(),))
        except SettingsError:
            return {}
        return dataclasses.asdict(solved) | {"values": solved.values | {"struck": struck}}

    data = measure.kept("tuck", plan.to_json(), compute)
    return propose_tuck("overheads", Solved(**data)) if data else None


def bars(measure: Measure, strip: str, compressor: Compressor) -> Bars | None:
    """Return two bars of the busiest part of a strip with what a compressor takes there; None where nothing of it is heard, or it has no hits."""

    def compute() -> dict:
        search = _Search(measure, strip)
        try:
            now = search.heard(measure.plan)
        except SettingsError:
            return {}
        x = now.before(compressor.id)
        keyed = compressor.key.of
        plain = measure.plan.replace(scenes=())
        other = key_listen(plain, measure.recordings, strip, compressor.id, now.span) if keyed else x
        size = round(TWO * bar_s(measure.plan.tempo) * now.rate)
        first = max(round((now.hits[0].time_s - 0.02) * now.rate), now.rate)
        last = min(first + size, x.shape[0])
        every = carding.heard_hits(measure, now.span)
        pieces = measure.pieces_of_strip(places.named(measure.plan, strip))
        hits = sorted(round(h.time_s * now.rate) - first for p in pieces for h in every.get(p, []) if not h.ghost)
        found = over_bars(
            x[first - now.rate : last], other[first - now.rate : last], unkeyed(compressor), hits, now.rate
        )
        return dataclasses.asdict(found)

    found = measure.kept("bars", [measure.plan.to_json(), strip, compressor.id], compute)
    return (
        Bars(**{key: tuple(value) if isinstance(value, list) else value for key, value in found.items()})
        if found
        else None
    )


def heard_by(measure: Measure, strip: str, compressor: Compressor) -> list[np.ndarray]:
    """Return what a strip's compressor hears around its hits, set as it is given: see ``punch.measure.hits_before``."""
    search = _Search(measure, strip)
    return search.windows(search.with_tool(measure.plan, compressor), compressor)


def report(measure: Measure, strip: str) -> dict:
    """Return what a strip's tools do to its hits, with words; without hits it says so."""
    mine, search = places.named(measure.plan, strip), _Search(measure, strip)
    try:
        now = search.heard(measure.plan)
    except SettingsError as error:
        return {"strip": mine.name, "name": mine.words, "words": str(error), "attack_db": None, "compressors": []}
    attack_db = now.attack_change_db()
    found = [
        {"id": each.id, **dataclasses.asdict(search.taken(measure.plan, each, now))}
        for each in mine.strip.tools
        if each.kind == "compressor" and each.on
    ]
    words = [f"attack against body {attack_db:+.1f} dB"]
    words += [
        f"{each['id']} takes {each['deepest_db']:.1f} dB, {each['left_db']:.1f} dB left after {1000 * each['after_s']:.0f} ms{_rolled(each)}"
        for each in found
    ]
    told = {"attack_db": round(attack_db, 2), "compressors": found, "words": "; ".join(words)}
    return {"strip": mine.name, "name": mine.words} | told


def _rolled(found: dict) -> str:
    """Return in words what is left within rolls, "" where there are none."""
    if found["roll_left_db"] is None:
        return ""
    return f", in rolls {found['roll_left_db']:.1f} dB after {1000 * found['roll_after_s']:.0f} ms"
